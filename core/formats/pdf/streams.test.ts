import { describe, expect, it } from "vitest";
import { carveImage } from "../../../tests/support/lab-files";
import { MemorySource } from "../../bytes/byte-source";
import { formatById, runFollow } from "../registry";

const { bytes, files } = carveImage();
/** A picture made by a general tool, as the manifest of the image has it. */
const picture = (() => {
  const file = files.find(({ path }) => path === "plain-baseline.jpg");
  return bytes.subarray(file?.firstOffset ?? 0, (file?.firstOffset ?? 0) + (file?.size ?? 0));
})();

/** Codes bytes as ASCII base-85, in lines (ISO 32000-1, 7.4.3). */
function toBase85(plain: Uint8Array): string {
  let letters = "";
  for (let at = 0; at < plain.length; at += 4) {
    const group = [0, 1, 2, 3].map((i) => plain[at + i] ?? 0);
    let value = group.reduce((sum, byte) => sum * 256 + byte, 0);
    const digits: string[] = [];
    for (let i = 0; i < 5; i += 1) {
      digits.unshift(String.fromCharCode(33 + (value % 85)));
      value = Math.floor(value / 85);
    }
    const count = Math.min(4, plain.length - at);
    letters += count === 4 && value === 0 && digits.every((digit) => digit === "!") ? "z" : digits.slice(0, count + 1).join("");
  }
  return `${letters.replace(/.{76}/g, "$&\n")}~>`;
}

/** A document of one page and one picture, with a table of its objects (7.5.4). */
function documentWith(filter: string, data: Buffer): Buffer {
  const objects = [
    Buffer.from("<</Type/Catalog/Pages 2 0 R>>"),
    Buffer.from("<</Type/Pages/Kids[3 0 R]/Count 1>>"),
    Buffer.from("<</Type/Page/Parent 2 0 R/MediaBox[0 0 200 200]/Resources<</XObject<</P 4 0 R>>>>>>"),
    Buffer.concat([
      Buffer.from(
        `<</Type/XObject/Subtype/Image/Width 100/Height 80/BitsPerComponent 8/ColorSpace/DeviceRGB/Filter ${filter}/Length ${data.length}>>\nstream\n`,
      ),
      data,
      Buffer.from("\nendstream"),
    ]),
  ];
  const parts: Buffer[] = [Buffer.from("%PDF-1.4\n")];
  const places: number[] = [];
  const length = () => parts.reduce((sum, part) => sum + part.length, 0);
  objects.forEach((object, index) => {
    places.push(length());
    parts.push(Buffer.from(`${index + 1} 0 obj\n`), object, Buffer.from("\nendobj\n"));
  });
  const table = length();
  const rows = places.map((place) => `${String(place).padStart(10, "0")} 00000 n \n`).join("");
  parts.push(Buffer.from(`xref\n0 5\n0000000000 65535 f \n${rows}trailer\n<</Size 5/Root 1 0 R>>\nstartxref\n${table}\n%%EOF\n`));
  return Buffer.concat(parts);
}

const verdict = (document: Buffer) => {
  const format = formatById.get("pdf");
  const extent = format && runFollow(format, new MemorySource(document));
  return extent?.closed ? extent.verdict.verdict : "broken";
};

describe("a picture in a document, coded in letters", () => {
  const FILTER = "[/ASCII85Decode/DCTDecode]";
  const letters = Buffer.from(toBase85(picture));

  it("is followed as the picture it is", () => {
    expect(verdict(documentWith(FILTER, letters))).toBe("sound");
    expect(verdict(documentWith("/DCTDecode", Buffer.from(picture)))).toBe("sound");
  });

  it("is damaged where zeros stand in the place of letters: as white space they would be passed over", () => {
    for (const from of [700, 2048, 6000]) {
      const zeroed = Buffer.from(letters);
      zeroed.fill(0, from, from + 1024);
      expect(verdict(documentWith(FILTER, zeroed)), String(from)).not.toBe("sound");
    }
  });

  it("is not proven where zeros stand among the data of a picture of several passes", () => {
    const { firstOffset = 0, size } = files.find(({ path }) => path === "progressive.jpg") ?? { size: 0 };
    const progressive = Buffer.from(bytes.subarray(firstOffset ?? 0, (firstOffset ?? 0) + size));
    expect(verdict(documentWith("/DCTDecode", progressive))).toBe("sound");
    // Within a scan that may have such runs; where its data break off at once, that is damage.
    for (let from = 1000; from + 512 < progressive.length - 100; from += 400) {
      const zeroed = Buffer.concat([progressive.subarray(0, from), Buffer.alloc(512), progressive.subarray(from)]);
      expect(verdict(documentWith("/DCTDecode", zeroed)), String(from)).not.toBe("sound");
    }
  });

  it("is damaged where letters of other data stand in their place, or blanks", () => {
    for (const from of [2048, 6000]) {
      const foreign = Buffer.from(letters);
      foreign.fill("harbour lantern timber mosaic ", from, from + 1024);
      expect(verdict(documentWith(FILTER, foreign)), String(from)).not.toBe("sound");
      const blank = Buffer.from(letters);
      blank.fill(" ", from, from + 1024);
      expect(verdict(documentWith(FILTER, blank)), String(from)).not.toBe("sound");
    }
  });
});
