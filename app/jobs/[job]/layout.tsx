import { notFound } from "next/navigation";
import { type ReactNode, Suspense } from "react";
import { JobShell } from "@/ui/shell/JobShell";

interface Props {
  children: ReactNode;
  params: Promise<{ job: string }>;
}

export default async function Layout({ children, params }: Props) {
  const { job } = await params;
  if (!/^\d{1,9}$/.test(job)) notFound();
  return (
    <Suspense>
      <JobShell jobId={Number(job)}>{children}</JobShell>
    </Suspense>
  );
}
