import type { AllocationMap } from "../allocation-map";
import { ClaimedClusters } from "../claimed-clusters";
import type { Finding } from "../file-record";
import { clusterWords, Tally } from "../tally";
import { RECORD, SYSTEM_RECORD } from "./layout";
import { type MftIndex, UNKNOWN_PARENT } from "./mft-index";
import { fileNames, parseMftRecord } from "./mft-record";
import type { MftTable } from "./mft-table";
import { readRuns } from "./run-list";

/** What does not add up in a volume: records against one another, against their folders and against the map of clusters. */
export function ntfsFindings(table: MftTable, index: MftIndex, map: AllocationMap | null): Finding[] {
  const { clusters } = table.geometry;
  const claimed = new ClaimedClusters(clusters, map);
  const tallies = {
    damaged: new Tally(),
    cut: new Tally(),
    parents: new Tally(),
    links: new Tally(),
    crossed: new Tally(),
    free: new Tally(),
    unowned: new Tally(),
  };
  table.walk(0, table.recordCount, (bytes, number) => {
    const reference = `MFT record ${number}`;
    const record = parseMftRecord(bytes, number);
    if (!record) {
      if (bytes.some((byte) => byte !== 0)) tallies.damaged.add(reference);
      return;
    }
    if (record.notes.length > 0) tallies.cut.add(reference);
    if (!record.inUse) return;
    if (!record.base && number >= SYSTEM_RECORD.firstUser) {
      const names = index.namesOf(record, index.extensionsOf(record));
      for (const name of names)
        if (index.pathOf(name.parent).startsWith(UNKNOWN_PARENT)) tallies.parents.add(`${name.name} (${reference})`);
      const stored = record.cursor.u16(RECORD.linkCount);
      if (names.length > 0 && stored !== names.length)
        tallies.links.add(`${names[0]?.name} (${reference}): ${stored} instead of ${names.length}`);
    }
    const name = fileNames(record)[0]?.name ?? reference;
    for (const attribute of record.attributes) {
      if (!attribute.nonResident) continue;
      for (const run of readRuns(record.cursor, attribute, clusters).runs) {
        // The list of bad clusters is one hole as long as the volume; what it holds is no file's.
        if (run.lcn === null || number === SYSTEM_RECORD.badClusters) continue;
        const { twice, free } = claimed.claim(run.lcn, run.length);
        if (twice > 0) tallies.crossed.add(`${name} (${reference})`, twice);
        if (free > 0) tallies.free.add(`${name} (${reference})`, free);
      }
    }
  });
  for (const { start, end } of claimed.unclaimed()) tallies.unowned.add(clusterWords(start, end), end - start);
  const words: readonly [keyof typeof tallies, string][] = [
    ["damaged", "File records that are damaged beyond reading: the files they described are known by their folders at most."],
    ["cut", "File records of which only a part is sound."],
    ["parents", "Files whose folder is not there any more, or was used for something else."],
    ["links", "Files whose record counts another number of names than it has."],
    ["crossed", "Clusters that two files claim: at least one of the two holds the other's bytes there."],
    ["free", "Clusters that belong to a file while the volume's map calls them free: the next write may take them."],
    [
      "unowned",
      "Clusters the volume's map calls used that no file claims: space that is lost, or the content of files whose records are damaged; a pass over leftovers brings it up.",
    ],
  ];
  return words.flatMap(([key, what]) =>
    tallies[key].count > 0 ? [{ what, count: tallies[key].count, examples: tallies[key].examples }] : [],
  );
}
