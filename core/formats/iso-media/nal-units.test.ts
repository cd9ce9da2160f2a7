import { describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { fixture } from "../../../tests/support/volume-truth";
import { hevcOrder } from "./hevc-order";
import { codingOf, type OrderSettings, orderBitsOf, orderSettings, shownAt, unitOf } from "./nal-units";

/** Bytes of bits written as "1", "0" and spaces, filled up with zeros. */
function bytesOfBits(bits: string): Uint8Array {
  const all = bits.replaceAll(" ", "");
  return Uint8Array.from({ length: Math.ceil(all.length / 8) }, (_, i) => Number.parseInt(all.slice(i * 8, i * 8 + 8).padEnd(8, "0"), 2));
}
/** Exponential Golomb code of a number (ITU-T H.264, 9.1, written after its definition). */
function ue(value: number): string {
  const code = (value + 1).toString(2);
  return "0".repeat(code.length - 1) + code;
}

describe("the order of H.265 pictures", () => {
  // A sequence and a picture parameter set as x265 3.5 writes them (see make-films.ts), out of a recording's index.
  const sets = () => {
    const { films } = JSON.parse(fixture("films.json.gz").toString()) as { films: { title: string; film: string }[] };
    const film = Buffer.from(films.find(({ title }) => title.includes("reordered") && title.includes("later"))?.film ?? "", "base64");
    const at = film.indexOf("hvcC") + 4;
    const units: Uint8Array[] = [];
    let next = at + 23;
    for (let left = film[at + 22] as number; left > 0; left -= 1) {
      let count = film.readUInt16BE(next + 1);
      next += 3;
      for (; count > 0; count -= 1) {
        units.push(film.subarray(next + 2, next + 2 + film.readUInt16BE(next)));
        next += 2 + film.readUInt16BE(next);
      }
    }
    return units;
  };

  it("is described by the first slice after what the settings say stands before it (7.3.6.1)", () => {
    const order = hevcOrder(sets());
    expect(order?.bits).toBe(8);
    // Kind 1, first slice, parameter set 0, a slice of kind B, order 37 in eight bits.
    const slice = (place: number) =>
      Uint8Array.of(0x02, 0x01, ...bytesOfBits(`1 ${ue(0)} ${ue(0)} ${place.toString(2).padStart(8, "0")} 1010`));
    expect([37, 0, 255].map((each) => order?.of(slice(each)))).toEqual([37, 0, 255]);
    // One that begins all anew gives no place; a slice that is not the first, or of settings nobody knows, gives nothing.
    expect(order?.of(Uint8Array.of(0x26, 0x01, 0xff, 0xff))).toBe(0);
    expect(order?.of(Uint8Array.of(0x02, 0x01, 0x00, 0x00))).toBeNull();
    expect(order?.of(Uint8Array.of(0x02, 0x01, ...bytesOfBits(`1 ${ue(5)} ${ue(0)} 00000000 1`)))).toBeNull();
    expect(order?.of(Uint8Array.of(0x02, 0x01))).toBeNull();
  });

  it("cannot be known without the settings, or by settings that make no sense", () => {
    const all = sets();
    expect(hevcOrder([])).toBeNull();
    expect(hevcOrder(all.filter((unit) => (unit[0] as number) >> 1 !== 33))).toBeNull();
    expect(hevcOrder(all.filter((unit) => (unit[0] as number) >> 1 !== 34))).toBeNull();
    const random = seeded(9);
    for (let round = 0; round < 2000; round += 1) {
      const hurt = all.map((unit) => {
        const bytes = Uint8Array.from(unit);
        bytes[2 + Math.floor(random() * (bytes.length - 2))] = Math.floor(random() * 256);
        return random() < 0.2 ? bytes.subarray(0, Math.floor(random() * bytes.length)) : bytes;
      });
      const order = hevcOrder(hurt);
      if (!order) continue;
      expect(order.bits).toBeLessThanOrEqual(16);
      const orders = order.of(Uint8Array.from({ length: 24 }, () => Math.floor(random() * 256)));
      expect(orders === null || (orders >= 0 && orders < 2 ** order.bits)).toBe(true);
    }
  });
});

describe("units of coded pictures", () => {
  it("are described by their header (ITU-T H.264, table 7-1; H.265, table 7-1)", () => {
    expect(unitOf("h264", Uint8Array.of(0x65, 0x88, 0x84))).toMatchObject({
      type: 5,
      slice: true,
      first: true,
      key: true,
      reference: true,
    });
    expect(unitOf("h264", Uint8Array.of(0x41, 0x9a, 0x24))).toMatchObject({
      type: 1,
      slice: true,
      first: true,
      key: false,
      reference: true,
    });
    expect(unitOf("h264", Uint8Array.of(0x01, 0x40, 0x24))).toMatchObject({ type: 1, slice: true, first: false, reference: false });
    expect(unitOf("h264", Uint8Array.of(0x09, 0xf0))).toMatchObject({ type: 9, slice: false, leads: true });
    expect(unitOf("hevc", Uint8Array.of(0x26, 0x01, 0xaf))).toMatchObject({ type: 19, slice: true, first: true, key: true });
    expect(unitOf("hevc", Uint8Array.of(0x02, 0x01, 0x50))).toMatchObject({
      type: 1,
      slice: true,
      first: false,
      key: false,
      reference: true,
    });
    expect(unitOf("hevc", Uint8Array.of(0x40, 0x01, 0x0c))).toMatchObject({ type: 32, slice: false, leads: true });
    expect([codingOf("avc1"), codingOf("hev1"), codingOf("mp4a")]).toEqual(["h264", "hevc", null]);
  });

  it("are none where the forbidden bit is set, or the kind does not go with being a reference", () => {
    for (const head of [
      [0xe5, 0, 0],
      [0x05, 0, 0],
      [0x66, 0, 0],
      [0x60, 0, 0],
      [0x62, 0, 0],
      [0x6d, 0, 0],
    ])
      expect(unitOf("h264", Uint8Array.from(head))).toBeNull();
    for (const head of [
      [0x82, 1, 0],
      [0x03, 1, 0],
      [0x02, 0, 0],
      [0x02, 0x09, 0],
      [0x18, 1, 0],
      [0x58, 1, 0],
    ])
      expect(unitOf("hevc", Uint8Array.from(head))).toBeNull();
    expect(unitOf("h264", new Uint8Array())).toBeNull();
  });
});

describe("the order in which pictures are shown", () => {
  /** A sequence parameter set of the main profile (7.3.2.1.1). */
  const mainSettings = (frameBits: number, orderBits: number) =>
    bytesOfBits(
      [
        "01100111",
        "01001101",
        "00000000",
        "00011111",
        ue(0),
        ue(frameBits - 4),
        ue(0),
        ue(orderBits - 4),
        ue(4),
        "0",
        ue(9),
        ue(5),
        "1",
        "1",
        "0",
        "0",
        "1",
      ].join(""),
    );
  const settings: OrderSettings = { separatePlanes: false, frameNumberBits: 4, orderType: 0, orderBits: 6, framesOnly: true };

  it("needs a few of the sequence's settings", () => {
    expect(orderSettings(mainSettings(4, 6))).toEqual(settings);
    expect(orderSettings(mainSettings(8, 16))).toMatchObject({ frameNumberBits: 8, orderBits: 16 });
    expect(orderSettings(mainSettings(4, 6).subarray(0, 5))).toBeNull();
    expect(orderSettings(Uint8Array.of(0x68, 1, 2, 3))).toBeNull();
    expect(orderSettings(new Uint8Array())).toBeNull();
    // The high profile begins with colours: 4:2:0, 8 bits, with two scaling lists, one of them all the same.
    const high = [
      "01100111",
      "01100100",
      "00000000",
      "00011111",
      ue(0),
      ue(1),
      ue(0),
      ue(0),
      "0",
      "1",
      "1",
      ...Array(16).fill(ue(0)),
      "1",
      ue(16),
      "000000",
    ];
    const rest = [ue(0), ue(0), ue(2), ue(4), "0", ue(9), ue(5), "1", "1", "0", "0", "1"];
    expect(orderSettings(bytesOfBits([...high, ...rest].join("")))).toMatchObject({ frameNumberBits: 4, orderBits: 6, framesOnly: true });
  });

  it("is read from a picture's first slice, past the bytes that keep start codes apart", () => {
    const slice = (order: number, frame = 3) =>
      bytesOfBits(
        ["01000001", ue(0), ue(5), ue(0), frame.toString(2).padStart(4, "0"), order.toString(2).padStart(6, "0"), "1010101"].join(""),
      );
    for (const order of [0, 1, 17, 63]) expect(orderBitsOf(slice(order), settings)).toBe(order);
    // An instantaneous refresh has a number of its own before.
    const key = bytesOfBits(["01100101", ue(0), ue(7), ue(0), "0000", ue(6), "000010"].join(""));
    expect(orderBitsOf(key, settings)).toBe(2);
    // Two zeros and a three: the three is no part of the data (7.4.1.1).
    const wide: OrderSettings = { ...settings, frameNumberBits: 16, orderBits: 16 };
    const plain = ["01000001", ue(0), ue(5), ue(0)].join("");
    const zeros = bytesOfBits(`${plain}${"0".repeat(16)}${"0".repeat(13)}10111`);
    const at = zeros.findIndex((byte, i) => i > 1 && byte === 0 && zeros[i + 1] === 0) + 2;
    const escaped = Uint8Array.from([...zeros.subarray(0, at), 3, ...zeros.subarray(at)]);
    expect(orderBitsOf(escaped, wide)).toBe(orderBitsOf(zeros, wide));
    expect(orderBitsOf(Uint8Array.of(0x41, 0x80), settings)).toBeNull();
  });

  it("is worked out from lower bits, over their end and through refreshes (8.2.1.1)", () => {
    const coded = (orders: number[], keys: number[] = [0]) =>
      orders.map((order, i) => ({ key: keys.includes(i), reference: order % 8 === 0, order: order % 16 }));
    // Coded 0, 8, 4, 2, 6, 16, 12, 10, 14 of a series: shown by their numbers, though four bits hold only sixteen of them.
    expect(shownAt(coded([0, 8, 4, 2, 6, 16, 12, 10, 14]), 4)).toEqual([0, 4, 2, 1, 3, 8, 6, 5, 7]);
    expect(shownAt(coded([0, 8, 4, 0, 8, 4], [0, 3]), 4)).toEqual([0, 2, 1, 3, 5, 4]);
    expect(shownAt([], 4)).toEqual([]);
  });
});
