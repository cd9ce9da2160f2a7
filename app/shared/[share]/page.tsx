import type { Metadata } from "next";
import { cookies } from "next/headers";
import { Suspense } from "react";
import { database } from "@/server/database/connection";
import { Problem } from "@/server/problem";
import { accessOf, SESSION_COOKIE } from "@/server/shares/access";
import type { SharedJob } from "@/server/shares/contract";
import { describeShared } from "@/server/shares/queries";
import { Empty } from "@/ui/instruments/Empty";
import { PasswordForm } from "@/ui/shared/PasswordForm";
import { Shared } from "@/ui/shared/Shared";

export const metadata: Metadata = { title: { absolute: "Recovered files" }, robots: { index: false, follow: false } };

interface Props {
  params: Promise<{ share: string }>;
}

/** The job a browser may see here; "closed": the password is needed; "over": the link leads nowhere. */
async function look(share: string): Promise<SharedJob | "closed" | "over"> {
  const { db } = database();
  try {
    const access = await accessOf(db, share, (await cookies()).get(SESSION_COOKIE)?.value);
    return access ? await describeShared(db, access) : "closed";
  } catch (error) {
    if (error instanceof Problem) return "over";
    throw error;
  }
}

/** What a client sees who was sent a link. */
export default async function Page({ params }: Props) {
  const { share } = await params;
  const found = await look(share);
  if (found === "over")
    return <Empty title="There is nothing at this address, or the link has ended.">Ask who sent it for another one.</Empty>;
  if (found === "closed") return <PasswordForm share={share} />;
  return (
    <Suspense>
      <Shared share={share} job={found} />
    </Suspense>
  );
}
