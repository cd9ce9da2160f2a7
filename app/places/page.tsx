import type { Metadata } from "next";
import { PlaceRules } from "@/ui/places/PlaceRules";

export const metadata: Metadata = { title: "Known places" };

export default function Page() {
  return <PlaceRules />;
}
