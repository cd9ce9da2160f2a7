import sharp from "sharp";

/** Numbers in 0 … 1 that are the same at every run (mulberry32, public domain). */
export function seeded(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let value = Math.imul(state ^ (state >>> 15), 1 | state);
    value = (value + Math.imul(value ^ (value >>> 7), 61 | value)) ^ value;
    return ((value ^ (value >>> 14)) >>> 0) / 4_294_967_296;
  };
}

interface Canvas {
  readonly width: number;
  readonly height: number;
  readonly pixels: Uint8Array;
}

function night(width: number, height: number, random: () => number): Canvas {
  const pixels = new Uint8Array(width * height * 3);
  const glow = 0.3 + 0.7 * random();
  for (let y = 0; y < height; y += 1) {
    const low = y / height;
    const colour = [8 + 26 * low * glow, 12 + 30 * low * glow, 26 + 42 * low];
    for (let x = 0; x < width; x += 1) pixels.set(colour, (y * width + x) * 3);
  }
  return { width, height, pixels };
}

function light({ width, height, pixels }: Canvas, x: number, y: number, colour: readonly number[], strength: number): void {
  if (x < 0 || y < 0 || x >= width || y >= height) return;
  const at = (Math.floor(y) * width + Math.floor(x)) * 3;
  for (let channel = 0; channel < 3; channel += 1) {
    pixels[at + channel] = Math.min(255, (pixels[at + channel] as number) + (colour[channel] as number) * strength);
  }
}

const STAR_COLOURS = [
  [255, 250, 240],
  [200, 215, 255],
  [255, 225, 190],
  [235, 240, 255],
] as const;

function stars(canvas: Canvas, random: () => number, count: number): void {
  for (let i = 0; i < count; i += 1) {
    const x = random() * canvas.width;
    const y = random() * canvas.height;
    const size = 0.6 + 1.8 * random() ** 6;
    const colour = STAR_COLOURS[Math.floor(random() * 4)] as readonly number[];
    for (let dy = -4; dy <= 4; dy += 1)
      for (let dx = -4; dx <= 4; dx += 1) light(canvas, x + dx, y + dy, colour, Math.exp(-(dx * dx + dy * dy) / (size * size)));
  }
}

function trails(canvas: Canvas, random: () => number, count: number): void {
  const poleX = canvas.width * 0.5;
  const poleY = canvas.height * 0.35;
  for (let i = 0; i < count; i += 1) {
    const radius = random() * canvas.width * 0.7;
    const start = random() * Math.PI * 2;
    const colour = STAR_COLOURS[Math.floor(random() * 4)] as readonly number[];
    const strength = 0.2 + 0.7 * random() ** 3;
    for (let step = 0; step < radius * 0.5; step += 0.5) {
      const angle = start + step / Math.max(radius, 1);
      light(canvas, poleX + radius * Math.cos(angle), poleY + radius * Math.sin(angle), colour, strength);
    }
  }
}

function moon(canvas: Canvas, random: () => number): void {
  const radius = canvas.height * 0.36;
  const cx = canvas.width * (0.4 + 0.2 * random());
  const cy = canvas.height * 0.48;
  const craters = Array.from({ length: 40 }, () => ({
    x: (random() * 2 - 1) * 0.9,
    y: (random() * 2 - 1) * 0.9,
    r: 0.02 + 0.13 * random() ** 2,
  }));
  const phase = random() * 1.2 - 0.4;
  for (let y = -1; y <= 1; y += 1 / radius) {
    for (let x = -1; x <= 1; x += 1 / radius) {
      const inside = 1 - x * x - y * y;
      if (inside < 0) continue;
      let tone = 0.72 + 0.1 * Math.sin(9 * x) * Math.cos(7 * y);
      for (const crater of craters) {
        const away = Math.hypot(x - crater.x, y - crater.y) / crater.r;
        if (away < 1) tone -= 0.16 * (1 - away);
        else if (away < 1.2) tone += 0.08;
      }
      const lit = Math.max(0, Math.min(1, (x - phase * Math.sqrt(1 - y * y)) * 4 + 0.5)) * Math.sqrt(inside);
      light(canvas, cx + x * radius, cy + y * radius, [236, 232, 220], tone * lit);
    }
  }
}

export type Motif = "stars" | "trails" | "moon";

/** The camera that never was. */
const CAMERA = { Make: "Nightglass", Model: "N5" };

/** A photograph of the night sky that nobody took, as JPEG. @param taken by the camera's clock; without it no camera took it either */
export async function photograph(motif: Motif, seed: number, width = 1200, height = 800, quality = 74, taken?: Date): Promise<Buffer> {
  const random = seeded(seed);
  const canvas = night(width, height, random);
  if (motif === "stars") stars(canvas, random, 700);
  else if (motif === "trails") trails(canvas, random, 420);
  else {
    stars(canvas, random, 90);
    moon(canvas, random);
  }
  const { pixels } = canvas;
  return sharp(pixels, { raw: { width, height, channels: 3 } })
    .blur(0.6)
    .withExif({
      IFD0: { ImageDescription: `Larkfield Observatory Society, ${motif} ${seed}`, ...(taken ? CAMERA : {}) },
      ...(taken ? { IFD2: { DateTimeOriginal: taken.toISOString().slice(0, 19).replaceAll("-", ":").replace("T", " ") } } : {}),
    })
    .jpeg({ quality })
    .toBuffer();
}
