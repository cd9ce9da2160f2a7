import type { Metadata } from "next";
import { Sources } from "@/ui/sources/Sources";

export const metadata: Metadata = { title: "Sources" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Sources jobId={Number((await params).job)} />;
}
