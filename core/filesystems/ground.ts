import type { ByteSource } from "../bytes/byte-source";
import type { Layout } from "../bytes/layout";
import type { RangeSet } from "../bytes/range-set";
import type { UsedMap } from "./allocation-map";
import { blockEvidence } from "./block-evidence";
import type { ByteEvidence, FileRecord, Placed } from "./file-record";
import { MeasuredMap } from "./measured-map";

/** A volume as it is now, for what looks in it for traces of file systems of other kinds that were there before. */
export class Ground {
  readonly #dataAt: number;

  /**
   * @param start disk byte offset of the volume
   * @param opened what its file system says is in use
   */
  constructor(
    readonly disk: ByteSource,
    readonly start: number,
    /** Its bytes. */
    readonly volume: ByteSource,
    private readonly opened: { readonly allocation: UsedMap | null; readonly allocationStart: number; readonly clusterSize: number },
  ) {
    this.#dataAt = opened.allocationStart - start;
  }

  /** Whether nothing uses the place now. Bytes from the volume's beginning. */
  isFree(at: number): boolean {
    const { allocation, clusterSize } = this.opened;
    return !allocation?.isUsed(Math.floor((at - this.#dataAt) / clusterSize));
  }

  /** What of a layout is in use now, or in what other files had taken. @param taken in units of so many bytes from the volume's beginning */
  evidence(layout: Layout, taken: RangeSet | undefined, unit: number): ByteEvidence {
    const { allocation, allocationStart, clusterSize } = this.opened;
    return blockEvidence(
      layout,
      { start: allocationStart, blockSize: clusterSize, map: allocation },
      taken && { taken, unit, from: this.start },
    );
  }

  /** The map of what is in use, in clusters of another size. @param at where the first of them begins, in bytes from the volume's beginning */
  map(clusterSize: number, at: number, clusters: number): UsedMap | null {
    const { allocation, clusterSize: mapped } = this.opened;
    return allocation && new MeasuredMap(clusters, { clusterSize, at }, allocation, { clusterSize: mapped, at: this.#dataAt });
  }
}

/**
 * A record of a file system of another kind that was in this place before. What the present one had and gave up since is not known of all of it, so
 * that content which stands apart from its record proves itself or is not proven.
 * @param title what people call the former file system
 */
export function ofFormer(record: FileRecord, title: string): FileRecord {
  const note = `Left by a file system of another kind that was here before (${title}): what was written over it and deleted since is not known, and only the content can prove itself.`;
  const { content } = record;
  const standsApart = ({ layout }: Placed) => layout.segments.some(({ kind }) => kind !== "held" && kind !== "hole");
  const weighed = (place: Placed): Placed => (standsApart(place) ? { ...place, sure: false } : place);
  return {
    ...record,
    state: "deleted",
    ...(content.kind === "placed"
      ? { content: { kind: "placed", likeliest: weighed(content.likeliest), others: content.others.map(weighed) } }
      : {}),
    notes: [...record.notes, note],
  };
}
