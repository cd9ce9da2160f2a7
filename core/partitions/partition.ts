/** A stretch of a disk that a table (or, without one, its own boot sector) declares to be a partition. Bytes. */
export interface Partition {
  readonly start: number;
  readonly length: number;
  /** The table's own type mark: a GUID, or an MBR type byte as hex. */
  readonly type: string | null;
  readonly name: string | null;
}

export interface PartitionTable {
  readonly kind: "gpt" | "mbr" | "apm" | "none";
  /** Bytes in a logical sector, as the table shows it. */
  readonly sectorSize: number;
  readonly partitions: readonly Partition[];
  /** What was odd or repaired, in plain words. */
  readonly notes: readonly string[];
}
