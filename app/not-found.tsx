import Link from "next/link";
import { Empty } from "@/ui/instruments/Empty";

export default function NotFound() {
  return (
    <Empty title="There is nothing at this address.">
      <Link href="/" style={{ color: "inherit" }}>
        To the jobs on the bench
      </Link>
    </Empty>
  );
}
