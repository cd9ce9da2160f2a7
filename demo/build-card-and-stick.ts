/**
 * Builds two more images of the scenario with Debian's tools: `demo/images/camera-card.img.gz`, a FAT32 card with pictures of the
 * anniversary night, formatted in the camera by mistake (mkfs.fat and mtools), and `demo/images/newsletter-stick.img.gz`, an exFAT
 * stick with the newsletter, deleted and live files (mkfs.exfat and exfat-fuse). Needs root, FUSE and loop devices.
 * Run: npx tsx demo/build-card-and-stick.ts [card|stick]
 */
import { execFileSync } from "node:child_process";
import { mkdirSync, mkdtempSync, readFileSync, rmSync, truncateSync, utimesSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { gzipSync } from "node:zlib";
import { letter, pdf, sheet } from "./documents";
import { type Motif, photograph } from "./draw";

const MIB = 1 << 20;
const START = 1 * MIB;
const work = mkdtempSync(join(tmpdir(), "card-"));
const run = (command: string, ...args: string[]) => execFileSync(command, args, { stdio: ["ignore", "ignore", "inherit"] });

/** A disk with one partition in its boot record, around a volume's bytes (UEFI Specification, 5.2.1). */
function disk(volume: Buffer, type: number): Buffer {
  const image = Buffer.alloc(START + volume.length);
  const entry = 446;
  image[entry + 4] = type;
  image.writeUInt32LE(START / 512, entry + 8);
  image.writeUInt32LE(volume.length / 512, entry + 12);
  image.writeUInt16LE(0xaa55, 510);
  volume.copy(image, START);
  return image;
}

function keep(name: string, image: Buffer): void {
  writeFileSync(join(import.meta.dirname, "images", `${name}.gz`), gzipSync(image, { level: 9 }));
}

async function buildCard(): Promise<void> {
  const volume = join(work, "card.part");
  writeFileSync(volume, "");
  truncateSync(volume, 38 * MIB);
  const format = (label: string, id: string) => run("mkfs.fat", "-F", "32", "-s", "1", "-n", label, "-i", id, volume);
  format("LANTERN", "20260307");
  const put = (path: string, content: Buffer, made: string) => {
    const file = join(work, "put");
    writeFileSync(file, content);
    utimesSync(file, new Date(made), new Date(made));
    run("mcopy", "-i", volume, "-m", file, `::${path}`);
  };
  for (const folder of ["DCIM", "DCIM/101LARKF", "DCIM/102LARKF"]) run("mmd", "-i", volume, `::${folder}`);
  const motifs: readonly Motif[] = ["stars", "trails", "moon"];
  for (let i = 1; i <= 19; i += 1) {
    const folder = i <= 12 ? "101LARKF" : "102LARKF";
    const taken = new Date(Date.UTC(2026, 2, 7, 20, 5 + i * 4));
    const picture = await photograph(motifs[i % 3] as Motif, 300 + i, 1000, 667, 62, taken);
    // The battery was empty before the last one was written.
    const written = i === 19 ? picture.subarray(0, Math.floor(picture.length * 0.62)) : picture;
    put(`DCIM/${folder}/LARK${String(1000 + i)}.JPG`, written, taken.toISOString());
    // One was deleted in the camera, so that a later one lies in two pieces.
    if (i === 5) run("mdel", "-i", volume, "::DCIM/101LARKF/LARK1003.JPG");
  }
  format("LANTERN", "20260308");
  keep("camera-card.img", disk(readFileSync(volume), 0x0c));
}

async function buildStick(): Promise<void> {
  const volume = join(work, "stick.part");
  const mount = join(work, "mount");
  mkdirSync(mount);
  writeFileSync(volume, "");
  truncateSync(volume, 24 * MIB);
  run("mkfs.exfat", "-L", "NEWSLETTER", "-c", "4096", volume);
  const mounted = (use: () => void) => {
    // As root the driver wants a block device.
    const device = execFileSync("losetup", ["--find", "--show", volume], { encoding: "utf8" }).trim();
    try {
      run("mount.exfat-fuse", device, mount);
      try {
        use();
      } finally {
        run("umount", mount);
      }
    } finally {
      run("losetup", "-d", device);
    }
  };
  const files = new Map<string, Buffer>();
  for (const [month, title] of [
    ["January", "The winter sky"],
    ["February", "New mirror wanted"],
    ["March", "The anniversary night"],
  ] as const) {
    files.set(
      `Newsletter/2026/${month}.docx`,
      await letter([
        title,
        `Newsletter of the Larkfield Observatory Society, ${month} 2026.`,
        "Dear members,",
        "the dome is open on every clear Friday.",
      ]),
    );
    files.set(`Newsletter/2026/${month}.pdf`, pdf([[title, `${month} 2026`]]));
  }
  files.set(
    "Newsletter/Addresses.xlsx",
    await sheet(
      ["Name", "Town"],
      [
        ["Cleo Vane", "Larkfield"],
        ["Mo Ardent", "Harrow Down"],
      ],
    ),
  );
  for (let i = 1; i <= 4; i += 1) files.set(`Newsletter/Pictures/page ${i}.jpg`, await photograph("moon", 500 + i, 900, 600, 60));
  mounted(() => {
    for (const [path, content] of files) {
      mkdirSync(dirname(join(mount, path)), { recursive: true });
      writeFileSync(join(mount, path), content);
    }
  });
  mounted(() => {
    for (const path of ["Newsletter/2026/March.docx", "Newsletter/2026/March.pdf", "Newsletter/Pictures/page 3.jpg"])
      rmSync(join(mount, path));
    rmSync(join(mount, "Newsletter/Pictures"), { recursive: true });
  });
  keep("newsletter-stick.img", disk(readFileSync(volume), 0x07));
}

// A name builds only that one: the stick needs a driver that not every computer has.
const [only = ""] = process.argv.slice(2);
if (only !== "stick") await buildCard();
if (only !== "card") await buildStick();
rmSync(work, { recursive: true });
