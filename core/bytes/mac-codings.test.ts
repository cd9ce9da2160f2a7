import { describe, expect, it } from "vitest";
import { macFixture, sha256 } from "../../tests/support/mac-truth";
import { decodeAdc } from "./adc";
import { decodeLzfse } from "./lzfse";
import { decodeLzvn } from "./lzvn";

interface Vector {
  path: string;
  form: string;
  state: "good" | "damaged";
  plainSize: number;
  plainSha256: string;
  /** Bytes from the beginning that a decoder can give of a damaged one. */
  readable?: number;
  coded: string;
}
/** Coded by the reference library of LZFSE 1.0, lengths 0 to 64 KiB of text, tables, zeros and noise. */
const vectors = JSON.parse(macFixture("lz-vectors.json.gz").toString()) as Vector[];
const decoderOf = ({ form }: Vector) => (form === "lzvn-bare" ? decodeLzvn : decodeLzfse);
const codedOf = ({ coded }: Vector) => Uint8Array.from(Buffer.from(coded, "base64"));

describe("LZVN and LZFSE", () => {
  const good = vectors.filter(({ state }) => state === "good");

  it("give the bytes that the reference library was given, of every form of block", () => {
    expect(new Set(good.map(({ form }) => form)).size).toBeGreaterThanOrEqual(5);
    expect(good.length).toBeGreaterThan(100);
    const wrong = good.filter((vector) => {
      const { bytes, sound } = decoderOf(vector)(codedOf(vector), vector.plainSize);
      return !sound || sha256(bytes) !== vector.plainSha256;
    });
    expect(wrong.map(({ path }) => path)).toEqual([]);
  });

  it("say that damaged streams are damaged; a size that lies is not trusted", () => {
    const damaged = vectors.filter(({ state }) => state === "damaged");
    expect(damaged.length).toBeGreaterThan(10);
    for (const vector of damaged) {
      const { bytes, sound } = decodeLzfse(codedOf(vector), vector.plainSize);
      expect(bytes.length, vector.path).toBe(vector.plainSize);
      // Sound is only what is right all the same: the mark at the end, or a size in a head, says nothing of the content.
      if (sound) expect(sha256(bytes), vector.path).toBe(vector.plainSha256);
    }
  });

  it("stop at the end of what is wanted and never write behind it", () => {
    for (const vector of good.filter(({ plainSize }) => plainSize > 1000).slice(0, 20)) {
      const all = decoderOf(vector)(codedOf(vector), vector.plainSize).bytes;
      const half = decoderOf(vector)(codedOf(vector), vector.plainSize >> 1);
      expect(half.sound).toBe(true);
      expect(Buffer.from(half.bytes).equals(Buffer.from(all.subarray(0, vector.plainSize >> 1)))).toBe(true);
    }
  });

  it("take any bytes without throwing", () => {
    const base = good.filter(({ plainSize }) => plainSize > 500 && plainSize < 10_000).slice(0, 12);
    let seed = 1;
    const random = (below: number) => {
      seed = (seed * 1_103_515_245 + 12_345) % 2 ** 31;
      return seed % below;
    };
    for (let round = 0; round < 3000; round += 1) {
      const vector = base[round % base.length] as Vector;
      const bytes = codedOf(vector);
      for (let change = 0; change < 3; change += 1) bytes[random(bytes.length)] = random(256);
      expect(decoderOf(vector)(bytes, vector.plainSize).bytes.length).toBe(vector.plainSize);
    }
  });
});

describe("ADC", () => {
  it("repeats and copies as its three instructions say", () => {
    // Worked by hand: three literals, a short match of 3 at distance 3, a long match of 5 at distance 1.
    const coded = Uint8Array.of(0x82, 1, 2, 3, 0x00, 2, 0x41, 0, 0);
    expect([...decodeAdc(coded, 11).bytes]).toEqual([1, 2, 3, 1, 2, 3, 3, 3, 3, 3, 3]);
    expect(decodeAdc(coded, 12).sound).toBe(false);
    expect(decodeAdc(Uint8Array.of(0x00, 9), 3).sound).toBe(false);
  });
});
