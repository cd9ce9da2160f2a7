import { redirect } from "next/navigation";

export default async function Page({ params }: { params: Promise<{ job: string }> }) {
  redirect(`/jobs/${(await params).job}/account`);
}
