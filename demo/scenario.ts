import { type Account, EMPTY_ACCOUNT } from "../server/accounts/contract";

interface DemoJob {
  title: string;
  client: string;
  account: Account;
  /** Images in `demo/images`, without ".gz". */
  images: string[];
}

/** The invented Larkfield Observatory Society, an amateur astronomy club, and what its members have lost. */
export const SCENARIO: readonly DemoJob[] = [
  {
    title: "Funding application and log",
    client: "Larkfield Observatory Society",
    account: {
      ...EMPTY_ACCOUNT,
      kind: "documents",
      nameHint: "funding application",
      folder: "Documents",
      system: "windows",
      userName: "mo",
      cause: "deleted-past-bin",
      lostAt: new Date("2026-03-12T15:00:00Z"),
    },
    images: ["secretary-laptop.img"],
  },
  {
    title: "Anniversary night and newsletter",
    client: "Larkfield Observatory Society",
    account: {
      ...EMPTY_ACCOUNT,
      kind: "pictures",
      folder: "DCIM",
      system: "card",
      cause: "formatted",
      lostAt: new Date("2026-03-08T09:00:00Z"),
    },
    images: ["camera-card.img", "newsletter-stick.img"],
  },
];
