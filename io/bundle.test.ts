import { mkdirSync, mkdtempSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { readBytes } from "../core/bytes/byte-source";
import { macFixture, macTruth, sha256 } from "../tests/support/mac-truth";
import { diskFile, diskName, isBundle } from "./bundle";
import { openSource } from "./open-source";
import { listStores } from "./stores";

interface Image {
  raw: { size: number; sha256: string } | null;
  files: Record<string, string>;
}
const images = JSON.parse(macFixture("disk-images.json.gz").toString()) as Record<string, Image>;
const work = mkdtempSync(join(tmpdir(), "bundle-"));
afterAll(() => rmSync(work, { recursive: true }));

/** Lays the files of an image out in a folder. @returns the folder */
function laidOut(name: string, folder = work): string {
  for (const [path, bytes] of Object.entries((images[name] as Image).files)) {
    mkdirSync(dirname(join(folder, path)), { recursive: true });
    writeFileSync(join(folder, path), Buffer.from(bytes, "base64"));
  }
  return folder;
}

describe("a disk image that is a folder of bands", () => {
  const bundle = join(laidOut("sparsebundle-hfsplus"), "sparsebundle-hfsplus.sparsebundle");

  it("is opened by its folder, under the folder's name", () => {
    expect(isBundle(bundle)).toBe(true);
    expect(diskName(diskFile(bundle))).toBe("sparsebundle-hfsplus.sparsebundle");
    const source = openSource(diskFile(bundle));
    try {
      expect(source.report).toMatchObject({ container: "sparse-bundle", volumes: [{ filesystem: "hfsplus", label: "Quayside" }] });
      expect(sha256(readBytes(source.disk, 0, source.disk.size))).toBe(images["sparsebundle-hfsplus"]?.raw?.sha256);
    } finally {
      source.close();
    }
  });

  it("in a folder of this computer is one store, its bands and the copy of its list none", () => {
    const stores = [...listStores({ sourcePath: work }, true)];
    expect(stores.map(({ kind, label }) => [kind, label])).toEqual([
      ["folder", expect.any(String)],
      ["image", "sparsebundle-hfsplus.sparsebundle"],
      ["volume", "Quayside"],
    ]);
  });

  it("does not follow a link in the place of its bands", () => {
    const folder = mkdtempSync(join(tmpdir(), "linked-"));
    try {
      const list = Buffer.from(
        (images["sparsebundle-hfsplus"] as Image).files["sparsebundle-hfsplus.sparsebundle/Info.plist"] as string,
        "base64",
      );
      writeFileSync(join(folder, "Info.plist"), list);
      symlinkSync(join(bundle, "bands"), join(folder, "bands"));
      expect(isBundle(folder)).toBe(false);
      // Opened by its list all the same, it has no band.
      const source = openSource(join(folder, "Info.plist"));
      expect(source.report.notes.join()).toContain("8 are not there");
      source.close();
    } finally {
      rmSync(folder, { recursive: true });
    }
  });

  it("any other folder is none", () => {
    expect(isBundle(tmpdir())).toBe(false);
    expect(macTruth("hfsplus-small").entries.length).toBeGreaterThan(10);
  });
});

describe("an image in several files beside one another", () => {
  it("is one store, whichever file is chosen", () => {
    const folder = laidOut("udif-segments", mkdtempSync(join(tmpdir(), "segments-")));
    try {
      const images = [...listStores({ sourcePath: folder }, true)].filter(({ kind }) => kind === "image");
      expect(images.map(({ label }) => label)).toEqual(["udif-segments.dmg"]);
      for (const name of ["udif-segments.dmg", "udif-segments.003.dmgpart"]) {
        const source = openSource(join(folder, name));
        expect(source.report.volumes).toMatchObject([{ filesystem: "hfsplus" }]);
        source.close();
      }
    } finally {
      rmSync(folder, { recursive: true });
    }
  });
});
