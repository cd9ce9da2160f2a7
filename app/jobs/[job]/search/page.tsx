import type { Metadata } from "next";
import { Search } from "@/ui/search/Search";

export const metadata: Metadata = { title: "Search" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Search jobId={Number((await params).job)} />;
}
