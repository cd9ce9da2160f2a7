import type { Metadata } from "next";
import { Account } from "@/ui/account/Account";

export const metadata: Metadata = { title: "Account" };

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  return <Account jobId={Number((await params).job)} />;
}
