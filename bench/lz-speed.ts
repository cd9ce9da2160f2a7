import { readFileSync } from "node:fs";
import { deflateSync, gunzipSync, inflateSync } from "node:zlib";
import { decodeLzfse } from "../core/bytes/lzfse";
import { decodeLzvn } from "../core/bytes/lzvn";

/**
 * Decodes the recorded LZVN and LZFSE streams of 64 KiB and more on one thread, and zlib's of the same plain bytes beside them. A line each:
 * plain megabytes a second, ours and zlib's, of the quickest of many rounds.
 */
const ROUNDS = 12;
const LEAST = 65_536;
const AT_ONCE = 4 << 20;

interface Vector {
  readonly path: string;
  readonly form: string;
  readonly plainSize: number;
  readonly coded: string;
}
const [, , vectors = ""] = process.argv;
for (const { path, form, plainSize, coded } of JSON.parse(gunzipSync(readFileSync(vectors)).toString()) as Vector[]) {
  if (plainSize < LEAST || !/^(lzvn|bvx[12])/.test(form)) continue;
  const bytes = new Uint8Array(Buffer.from(coded, "base64"));
  const ours = () => (form.startsWith("lzvn") ? decodeLzvn(bytes, plainSize) : decodeLzfse(bytes, plainSize));
  const deflated = deflateSync(ours().bytes);
  const [mine, zlibs] = [quickest(ours, plainSize), quickest(() => inflateSync(deflated), plainSize)];
  console.log(
    `| decode ${path} (${plainSize} bytes) | ${mine.toFixed(0)} MB/s | zlib, of the same plain bytes: ${zlibs.toFixed(0)} MB/s | ${(zlibs / mine).toFixed(2)} |`,
  );
}

/** Plain megabytes a second of the quickest round. */
function quickest(decode: () => unknown, plainSize: number): number {
  const times = Math.max(1, Math.ceil(AT_ONCE / plainSize));
  let best = 0;
  for (let round = 0; round < ROUNDS; round += 1) {
    const begun = process.hrtime.bigint();
    for (let index = 0; index < times; index += 1) decode();
    best = Math.max(best, (times * plainSize * 1000) / Number(process.hrtime.bigint() - begun));
  }
  return best;
}
