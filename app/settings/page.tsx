import type { Metadata } from "next";
import { deliveryFolders } from "@/server/restores/delivery";
import { readSettings } from "@/server/settings";
import { shareAddress } from "@/server/shares/address";
import { Settings } from "@/ui/settings/Settings";
import packageFacts from "../../package.json";

export const metadata: Metadata = { title: "Settings" };
export const dynamic = "force-dynamic";

export default function Page() {
  const { COMPASS_SOURCES, COMPASS_DRIVES, COMPASS_DATA } = readSettings();
  const folders = deliveryFolders();
  return (
    <Settings
      sources={COMPASS_SOURCES}
      drives={COMPASS_DRIVES !== "hide"}
      delivery={folders.filter(({ replaces }) => !replaces).map(({ path }) => path)}
      replacements={folders.filter(({ replaces }) => replaces).map(({ path }) => path)}
      shared={shareAddress()}
      data={COMPASS_DATA}
      version={packageFacts.version}
    />
  );
}
