import Papa from "papaparse";

/** Writes rows as a sheet (RFC 4180), marked as UTF-8 for programs that would guess; what a sheet would take for a formula is quoted. */
export const writeSheet = (rows: readonly Readonly<Record<string, string>>[]): string =>
  `\ufeff${Papa.unparse([...rows], { newline: "\r\n", escapeFormulae: true })}\r\n`;
