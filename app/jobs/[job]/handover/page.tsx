import type { Metadata } from "next";
import { Handover } from "@/ui/handover/Handover";

export const metadata: Metadata = { title: "Handover" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Handover jobId={Number((await params).job)} />;
}
