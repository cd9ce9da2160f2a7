/** The checksum of an APFS object ("Apple File System Reference", `o_cksum`), worked out apart from the reader's own way. */
export function objectChecksum(object: Uint8Array): Uint8Array {
  const view = new DataView(object.buffer, object.byteOffset, object.byteLength);
  const modulus = 0xffff_ffff;
  let [first, second] = [0, 0];
  for (let at = 8; at < object.length; at += 4) {
    first = (first + view.getUint32(at, true)) % modulus;
    second = (second + first) % modulus;
  }
  const low = modulus - ((first + second) % modulus);
  const sum = new Uint8Array(8);
  const out = new DataView(sum.buffer);
  out.setUint32(0, low, true);
  out.setUint32(4, modulus - ((first + low) % modulus), true);
  return sum;
}
