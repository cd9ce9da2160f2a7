import type { Metadata } from "next";
import { Restore } from "@/ui/restore/Restore";

export const metadata: Metadata = { title: "Restore" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Restore jobId={Number((await params).job)} />;
}
