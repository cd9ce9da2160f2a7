/** Languages in whose words months are recognised. */
const LANGUAGES = ["en", "de", "fr", "es", "it", "pt", "nl", "sv", "da", "nb", "fi", "pl", "cs", "hu", "ro", "tr", "ru", "uk", "bg", "el"];
const SHORTEST = 3;
/** Short names of months that are other words too: a month only beside a day. */
const ALSO_OTHER_WORDS = new Set(["set", "out", "ago", "sie", "mag", "gen", "led", "lis", "mars"]);

/** A word without accents, in small letters. */
const plain = (word: string): string => word.normalize("NFD").replace(/\p{M}/gu, "").toLowerCase().replaceAll("ı", "i");

/** The months by all their words: as they stand alone and beside a day, whole and shortened, as the Unicode locale data have them. */
function readMonthWords(): Map<string, number> {
  const found = new Map<string, number>();
  for (const language of LANGUAGES)
    for (const month of ["long", "short"] as const)
      for (const day of [undefined, "numeric"] as const) {
        const format = new Intl.DateTimeFormat(language, { month, day, timeZone: "UTC" });
        for (let index = 0; index < 12; index += 1) {
          const value = format.formatToParts(Date.UTC(2026, index, 3)).find(({ type }) => type === "month")?.value ?? "";
          const word = plain(value.replace(/\.$/, ""));
          if (word.length >= SHORTEST && /^\p{L}+$/u.test(word) && !found.has(word)) found.set(word, index + 1);
        }
      }
  return found;
}

let months: Map<string, number> | undefined;

/** The month a word means, from 1; null: none. @param isBesideDay whether a day stands beside it */
export function monthOfWord(word: string, isBesideDay: boolean): number | null {
  months ??= readMonthWords();
  const own = plain(word);
  return isBesideDay || !ALSO_OTHER_WORDS.has(own) ? (months.get(own) ?? null) : null;
}
