import type { Kind } from "./format";

/** What a person calls the files of a kind. */
export const KIND_TITLES: Readonly<Record<Kind, string>> = {
  documents: "Documents",
  sheets: "Sheets",
  drawings: "Drawings",
  pictures: "Pictures",
  video: "Video",
  audio: "Audio",
  mail: "Mail",
  archives: "Archives",
  "application-data": "Application data",
  other: "Other",
};
