import type { Metadata } from "next";
import { Items } from "@/ui/items/Items";

export const metadata: Metadata = { title: "Items" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Items jobId={Number((await params).job)} />;
}
