import type { Metadata } from "next";
import { Records } from "@/ui/records/Records";

export const metadata: Metadata = { title: "Records" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Records jobId={Number((await params).job)} />;
}
