import type { FileRecord } from "../filesystems/file-record";
import { readJumpList } from "./jump-list";
import { nameOnly, type PlacedFind } from "./placed-copy";
import { recentPaths } from "./property-list";
import type { PlaceRule } from "./rule";
import { readShellLink, type ShellLink } from "./shell-link";

/** Readers of lists that name files. */
export const LISTS: ReadonlySet<PlaceRule["reader"]> = new Set(["link", "jump-list", "property-list"]);

/** The files a list of recent ones names. */
export function listedFiles(bytes: Uint8Array, rule: PlaceRule, record: FileRecord, serial: number | null): PlacedFind[] {
  if (rule.reader === "property-list") return recentPaths(bytes).map((path) => listedPath(record, path));
  const links = rule.reader === "link" ? [readShellLink(bytes)] : readJumpList(bytes);
  return links.flatMap((link) => (link && !link.directory ? [linkedFile(record, link, serial)] : []));
}

function linkedFile(record: FileRecord, link: ShellLink, serial: number | null): PlacedFind {
  const elsewhere = link.serial !== null && serial !== null && link.serial !== serial;
  const plain = link.target.replace(/^([A-Za-z]):\\/, (_, drive: string) => (elsewhere ? `/${drive}_/` : "/")).replaceAll("\\", "/");
  const volume = [link.label ? `called “${link.label}”` : "", link.serial === null ? "" : `with the serial number ${hex(link.serial)}`];
  const notes = [
    `The link in ${folderOf(record.path) || "the root folder"} leads to ${link.target}.`,
    ...(elsewhere ? [`It was on another volume, ${volume.filter(Boolean).join(" ")}: look for it there.`] : []),
  ];
  return {
    record: { ...nameOnly(record, link.size), created: link.created },
    path: plain.startsWith("/") ? plain.replace(/\/{2,}/g, "/") : `/${plain}`,
    modified: link.modified,
    notes,
  };
}

function listedPath(record: FileRecord, path: string): PlacedFind {
  return { record: nameOnly(record, 0), path, modified: null, notes: [`${record.path.slice(1)} names it.`] };
}

const hex = (serial: number) => serial.toString(16).toUpperCase().padStart(8, "0");
const folderOf = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf("/")));
