import { setTimeout } from "node:timers/promises";
import yauzl from "yauzl";

/** Reads an answer as somebody with a slow line does: what is made meanwhile has to wait. */
export async function readSlowly(response: Response): Promise<Buffer> {
  await setTimeout(100);
  const pieces: Uint8Array[] = [];
  for await (const piece of response.body as AsyncIterable<Uint8Array>) {
    pieces.push(piece);
    await setTimeout(2);
  }
  return Buffer.concat(pieces);
}

/** Every member of an archive by name, as an independent reader unpacks it, checksums compared. @throws Error when it cannot */
export async function unzipped(bytes: Buffer): Promise<Map<string, Buffer>> {
  const found = new Map<string, Buffer>();
  const zip = await yauzl.fromBufferPromise(bytes);
  for await (const entry of zip.eachEntry()) {
    const pieces: Buffer[] = [];
    for await (const piece of await zip.openReadStreamPromise(entry)) pieces.push(piece as Buffer);
    found.set(entry.fileName, Buffer.concat(pieces));
  }
  return found;
}
