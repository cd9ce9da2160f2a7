import { BlockReader } from "../bytes/block-reader";
import { PastEnd } from "../bytes/past-end";
import { breaksAt, cannotTell, endsAt, type Format, hasAscii, type Summary } from "./format";

/** ISO 9660 (ECMA-119, 8.4): the volume descriptor in sector 16 says how many blocks there are. */
const DESCRIPTOR = 32_768;
const iso: Format = {
  id: "iso",
  kind: "archives",
  title: "disc image",
  extensions: ["iso"],
  signatures: [{ at: DESCRIPTOR, mark: "\x01CD001\x01" }],
  loose: true,
  recognise: () => false,
  recogniseElsewhere: (source) => new BlockReader(source).has(DESCRIPTOR, "\x01CD001"),
  follow(source) {
    const reader = new BlockReader(source);
    if (!reader.has(DESCRIPTOR, "\x01CD001")) return null;
    const end = reader.u32(DESCRIPTOR + 80) * reader.u16(DESCRIPTOR + 128);
    return end > source.size
      ? breaksAt(source.size, "the image breaks off before its end")
      : endsAt(end, cannotTell("what is on the image is not followed"));
  },
  summarise(source): Summary {
    const title = new BlockReader(source).ascii(DESCRIPTOR + 40, 32).trim();
    return title ? { title } : {};
  },
};

/** VHD: the published specification 1.0, "Hard Disk Footer Format": dynamic disks begin with a copy of the footer. */
const vhd: Format = {
  id: "vhd",
  kind: "archives",
  title: "virtual disk",
  extensions: ["vhd"],
  signatures: [{ at: 0, mark: "conectix" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "conectix"),
  follow(source) {
    const reader = new BlockReader(source);
    try {
      // The blocks end where the footer stands again: a whole number of sectors on.
      for (let at = reader.find("conectix", 512); at >= 0; at = reader.find("conectix", at + 1))
        if (at % 512 === 0) return endsAt(at + 512, cannotTell("what is on the disk is not followed"));
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
    }
    return breaksAt(source.size, "the virtual disk breaks off before its end");
  },
};

/** VHDX ([MS-VHDX], 2.2): known by its beginning. */
const vhdx: Format = {
  id: "vhdx",
  kind: "archives",
  title: "virtual disk",
  extensions: ["vhdx"],
  recognise: (head) => hasAscii(head, 0, "vhdxfile"),
};

export const diskImageFormats: readonly Format[] = [iso, vhd, vhdx];
