/** The stages of a job in the order of work, and their words. */
export const STAGE_WORDS = {
  account: "Account",
  sources: "Sources",
  search: "Search",
  items: "Items",
  restore: "Restore",
  handover: "Handover",
} as const;
export type Stage = keyof typeof STAGE_WORDS;
export const STAGES = Object.keys(STAGE_WORDS) as Stage[];
