import { describe, expect, it } from "vitest";
import { leastTime } from "../../tests/support/thread-time";
import { AllocationMap } from "./allocation-map";
import { ClaimedClusters } from "./claimed-clusters";
import { hfsPlusFindings } from "./hfsplus/consistency";

/** 2^26 blocks (256 GiB of 4 KiB), none of them in use. */
const BLOCKS = 2 ** 26;
const empty = { size: BLOCKS / 8, read: (_: number, into: Uint8Array) => void into.fill(0), unreadable: () => [] };

describe("files that claim all of a large volume, each of them", () => {
  it("are not looked at more than a few times over, and what has no owner is not said to be known then", () => {
    const used = { ...empty, read: (_: number, into: Uint8Array) => void into.fill(0xff) };
    const claimed = new ClaimedClusters(1024, new AllocationMap({ ...used, size: 128 }, 1024));
    expect(claimed.claim(0, 512)).toEqual({ twice: 0, free: 0 });
    expect([...claimed.unclaimed()]).toEqual([{ start: 512, end: 1024 }]);
    expect(claimed.claim(-5, 10)).toEqual({ twice: 5, free: 0 });
    expect(claimed.claim(1000, 2000)).toEqual({ twice: 0, free: 0 });
    for (let times = 0; times < 5; times += 1) claimed.claim(0, 1024);
    expect(claimed.claim(0, 1024)).toEqual({ twice: 0, free: 0 });
    expect([...claimed.unclaimed()]).toEqual([]);
  });

  it("cost no more than a few looks at its map, and nothing is said of blocks that were not looked at", () => {
    const forks = Array.from({ length: 2000 }, (_, index) => ({
      name: `file ${index}`,
      blocks: null,
      extents: [{ start: 0, count: BLOCKS }],
    }));
    const { result, time } = leastTime(() =>
      hfsPlusFindings(forks, {
        blocks: BLOCKS,
        map: new AllocationMap(empty, BLOCKS),
        header: { files: 2000, folders: 0 },
        found: () => ({ files: 2000, folders: 0 }),
      }),
    );
    expect(time).toBeLessThan(60_000);
    expect(result.map(({ what }) => what.slice(0, 24))).toEqual(["Blocks that two files cl", "Blocks that belong to a "]);
  });
});
