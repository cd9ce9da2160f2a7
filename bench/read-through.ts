import { CachedSource } from "../core/bytes/byte-source";
import { ReadOnlyFile } from "../io/read-only-file";

/** Reads a file from end to end through our byte source, as a sweep would: what `cat FILE >/dev/null` is measured against. */
const [path = ""] = process.argv.slice(2);
const file = new ReadOnlyFile(path);
const source = new CachedSource(file);
const block = new Uint8Array(1 << 20);
for (let at = 0; at < source.size; at += block.length) source.read(at, block);
file.close();
