/** Plain bytes of ASCII base-85 data (ISO 32000-1, 7.4.3); null: a mark in them is none of theirs. */
export function fromBase85(text: string): Uint8Array | null {
  const plain: number[] = [];
  let group: number[] = [];
  for (const mark of text) {
    const code = mark.charCodeAt(0);
    if (code <= 32) continue;
    if (mark === "~") {
      if (group.length === 1) return null;
      break;
    }
    if (mark === "z" && group.length === 0) {
      plain.push(0, 0, 0, 0);
      continue;
    }
    if (code < 33 || code > 117) return null;
    group.push(code - 33);
    if (group.length < 5) continue;
    if (!put(plain, group, 4)) return null;
    group = [];
  }
  if (group.length > 1 && !put(plain, [...group, 84, 84, 84, 84].slice(0, 5), group.length - 1)) return null;
  return Uint8Array.from(plain);
}

function put(plain: number[], group: readonly number[], count: number): boolean {
  const value = group.reduce((sum, digit) => sum * 85 + digit, 0);
  if (value > 0xffff_ffff) return false;
  for (let i = 0; i < count; i += 1) plain.push(Math.floor(value / 256 ** (3 - i)) & 255);
  return true;
}
