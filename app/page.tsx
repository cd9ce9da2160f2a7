import { Suspense } from "react";
import { Bench } from "@/ui/bench/Bench";

export default function Page() {
  return (
    <Suspense>
      <Bench />
    </Suspense>
  );
}
