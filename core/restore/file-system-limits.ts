/** What a file system can hold, as far as a restore is concerned. */
export interface FileSystemLimits {
  /** What people call it. */
  readonly title: string;
  /** Bytes of the largest file; null: none that matters. */
  readonly largestFile: number | null;
  /** Milliseconds to which times of change are rounded. */
  readonly timeGrain: number;
  /** Whether links are known: an unfinished name is then never seen. */
  readonly links: boolean;
}

const GIB = 2 ** 30;
const TIB = 2 ** 40;

/**
 * By the system's name for them. Sources: FAT, "FAT32 File System Specification" (file size is 32 bits, times count two seconds); exFAT,
 * "exFAT file system specification" (10 ms increments); ext4, "ext4 Data Structures and Algorithms" of the kernel's documentation
 * (16 TiB with blocks of 4 KiB). The others have no limit that files meet; common practice, no published source.
 */
const LIMITS: Readonly<Record<string, FileSystemLimits>> = {
  vfat: { title: "FAT", largestFile: 4 * GIB - 1, timeGrain: 2000, links: false },
  msdos: { title: "FAT", largestFile: 4 * GIB - 1, timeGrain: 2000, links: false },
  exfat: { title: "exFAT", largestFile: null, timeGrain: 10, links: false },
  ntfs: { title: "NTFS", largestFile: null, timeGrain: 0, links: true },
  ntfs3: { title: "NTFS", largestFile: null, timeGrain: 0, links: true },
  ext2: { title: "ext2", largestFile: 2 * TIB, timeGrain: 1000, links: true },
  ext3: { title: "ext3", largestFile: 2 * TIB, timeGrain: 1000, links: true },
  ext4: { title: "ext4", largestFile: 16 * TIB, timeGrain: 0, links: true },
  xfs: { title: "XFS", largestFile: null, timeGrain: 0, links: true },
  btrfs: { title: "Btrfs", largestFile: null, timeGrain: 0, links: true },
  hfsplus: { title: "HFS+", largestFile: null, timeGrain: 1000, links: true },
};

/** What is known of a file system by the system's name for it; null: nothing is. */
export const limitsOf = (name: string): FileSystemLimits | null => (Object.hasOwn(LIMITS, name) ? (LIMITS[name] ?? null) : null);
