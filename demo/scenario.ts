import { EMPTY_ACCOUNT } from "../core/plan/account";
import type { Account } from "../server/accounts/contract";

interface DemoJob {
  title: string;
  client: string;
  accounts: Account[];
  /** Images in `demo/images`, without ".gz". */
  images: string[];
  /** Folders in `demo/images`, without ".json.gz". */
  folders?: string[];
}

const account = (stated: Partial<Account>): Account => ({ ...(EMPTY_ACCOUNT as Account), ...stated });
const on = (text: string) => ({ text, from: null, to: null });

/** The invented Larkfield Observatory Society, an amateur astronomy club, and what its members have lost. */
export const SCENARIO: readonly DemoJob[] = [
  {
    title: "Funding application and log",
    client: "Larkfield Observatory Society",
    accounts: [
      account({
        kinds: ["documents"],
        nameHint: "funding application",
        folder: "Documents",
        system: "windows",
        userName: "mo",
        cause: "deleted-past-bin",
        lost: on("2026-03-12"),
      }),
    ],
    images: ["secretary-laptop.img"],
  },
  {
    title: "Anniversary night and newsletter",
    client: "Larkfield Observatory Society",
    accounts: [account({ kinds: ["pictures"], folder: "DCIM", system: "card", cause: "formatted", lost: on("2026-03-08") })],
    images: ["camera-card.img", "newsletter-stick.img"],
  },
  {
    title: "Application closed without saving",
    client: "Larkfield Observatory Society",
    accounts: [
      account({
        kinds: ["documents"],
        nameHint: "funding application",
        folder: "Documents",
        system: "windows",
        userName: "mo",
        cause: "closed-unsaved",
        lost: on("12 March 2026"),
        usedSince: "little",
      }),
      account({
        kinds: ["sheets"],
        nameHint: "observing workbook",
        system: "windows",
        userName: "mo",
        cause: "overwritten",
        lost: on("11 March 2026"),
      }),
    ],
    images: [],
    folders: ["secretary-drive"],
  },
  {
    title: "Emptied bin on the editor's Mac",
    client: "Larkfield Observatory Society",
    accounts: [
      account({
        kinds: ["documents"],
        nameHint: "thesis chapter",
        folder: "Documents",
        system: "mac",
        userName: "maribel",
        cause: "bin-emptied",
        lost: on("7 May 2023"),
        usedSince: "little",
      }),
    ],
    images: ["editors-mac.img"],
  },
  {
    title: "Workbook overwritten by a wrong edit",
    client: "Larkfield Observatory Society",
    accounts: [
      account({
        kinds: ["sheets"],
        nameHint: "observing workbook",
        folder: "Documents",
        system: "windows",
        userName: "mo",
        cause: "overwritten",
        lost: on("11 March 2026"),
        usedSince: "little",
      }),
    ],
    images: [],
    folders: ["clubhouse-backup-disk"],
  },
  {
    title: "All messages before February are gone",
    client: "Larkfield Observatory Society",
    accounts: [
      account({
        kinds: ["application-data"],
        nameHint: "messages",
        folder: "Members Chat",
        system: "windows",
        userName: "mo",
        cause: "application-removed",
        lost: on("11 February 2026"),
      }),
    ],
    images: [],
    folders: ["members-chat"],
  },
  {
    title: "The old backup does not open",
    client: "Larkfield Observatory Society",
    accounts: [
      account({
        kinds: ["sheets"],
        nameHint: "star catalogue",
        folder: "Catalogue",
        cause: "backup-closed",
        lost: on("2011"),
      }),
    ],
    images: ["clubhouse-2011.bkf"],
  },
];
