/** Markers of ITU-T T.81, table B.1. */
export const MARKER = {
  tem: 0x01,
  sof0: 0xc0,
  dht: 0xc4,
  jpg: 0xc8,
  dac: 0xcc,
  rst0: 0xd0,
  rst7: 0xd7,
  soi: 0xd8,
  eoi: 0xd9,
  sos: 0xda,
  dqt: 0xdb,
  dnl: 0xdc,
  dri: 0xdd,
  app0: 0xe0,
  app1: 0xe1,
  app2: 0xe2,
  com: 0xfe,
} as const;

export const isFrame = (marker: number) =>
  marker >= 0xc0 && marker <= 0xcf && marker !== MARKER.dht && marker !== MARKER.jpg && marker !== MARKER.dac;
export const isRestart = (marker: number) => marker >= MARKER.rst0 && marker <= MARKER.rst7;

/** Frames whose picture data can be followed: baseline, extended and progressive, Huffman coded (table B.1). */
export const HUFFMAN_FRAMES: ReadonlySet<number> = new Set([0xc0, 0xc1, 0xc2]);
export const PROGRESSIVE = 0xc2;

const NAMES: Readonly<Record<number, string>> = {
  [MARKER.soi]: "SOI",
  [MARKER.eoi]: "EOI",
  [MARKER.sos]: "SOS",
  [MARKER.dht]: "DHT",
  [MARKER.dqt]: "DQT",
  [MARKER.dri]: "DRI",
  [MARKER.dnl]: "DNL",
  [MARKER.com]: "COM",
  [MARKER.dac]: "DAC",
};

/** What the standard calls a marker. */
export function markerName(marker: number): string {
  if (NAMES[marker]) return NAMES[marker];
  if (marker >= MARKER.app0 && marker <= 0xef) return `APP${marker - MARKER.app0}`;
  return isFrame(marker) ? `SOF${marker - MARKER.sof0}` : "segment";
}
