import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { bytesOf, places } from "../../tests/support/placed-files";
import { readFolderMetadata } from "./folder-metadata";
import { readJumpList } from "./jump-list";
import { readOwnerFile } from "./owner-file";
import { recentPaths } from "./property-list";
import { readShellLink } from "./shell-link";
import { readBinRecord } from "./windows-bin";

describe("hostile places", () => {
  const readers: readonly [string, Uint8Array, (bytes: Uint8Array) => unknown][] = [
    ["link", bytesOf(places.link), readShellLink],
    ["jump list", bytesOf(places.jumpList), readJumpList],
    ["folder metadata", bytesOf(places.folderMetadata), readFolderMetadata],
    ["property list", bytesOf(places.recentBinary), recentPaths],
    ["bin record", Uint8Array.from([2, 0, 0, 0, 0, 0, 0, 0, ...new Uint8Array(100)]), readBinRecord],
    ["owner file", Uint8Array.from([9, ...new Uint8Array(161)]), readOwnerFile],
  ];
  it.each(readers)("%s: whatever is changed in it, reading ends, with no more than the bytes can hold", (_, sound, read) => {
    // A text of 16 bits a letter is written in two letters for each of its bytes at most, and a few times over.
    const most = 4096 + 64 * sound.length;
    const whole = JSON.stringify(read(sound)) ?? "";
    expect(whole.length).toBeLessThan(most);
    const change = fc.record({ at: fc.nat(sound.length - 1), value: fc.integer({ min: 0, max: 255 }) });
    fc.assert(
      fc.property(fc.array(change, { maxLength: 12 }), fc.nat(sound.length), (changes, length) => {
        const bytes = sound.slice(0, Math.max(1, length));
        for (const { at, value } of changes) if (at < bytes.length) bytes[at] = value;
        expect((JSON.stringify(read(bytes)) ?? "").length).toBeLessThan(most);
      }),
      { numRuns: 1500 },
    );
  });
});
