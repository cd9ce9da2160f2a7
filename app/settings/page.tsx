import type { Metadata } from "next";
import { readSettings } from "@/server/settings";
import { Settings } from "@/ui/settings/Settings";
import packageFacts from "../../package.json";

export const metadata: Metadata = { title: "Settings" };
export const dynamic = "force-dynamic";

export default function Page() {
  const { COMPASS_SOURCES, COMPASS_DRIVES, COMPASS_DELIVERY, COMPASS_DATA } = readSettings();
  return (
    <Settings
      sources={COMPASS_SOURCES}
      drives={COMPASS_DRIVES !== "hide"}
      delivery={COMPASS_DELIVERY}
      data={COMPASS_DATA}
      version={packageFacts.version}
    />
  );
}
