/** An extended attribute: its full name ("user.note"), and its value. */
export interface OwnAttribute {
  readonly name: string;
  readonly value: Uint8Array;
}

/** The attributes of one file, by its path. */
export interface AttributedFile {
  readonly file: string;
  readonly attributes: readonly OwnAttribute[];
}

const isPlain = (byte: number): boolean => byte > 0x20 && byte < 0x7f && byte !== 0x5c && byte !== 0x3d;

/** A path or name with all but plain characters as a backslash and three octal digits (getfattr(1)). */
const quoted = (text: string): string =>
  [...Buffer.from(text)].map((byte) => (isPlain(byte) ? String.fromCharCode(byte) : `\\${byte.toString(8).padStart(3, "0")}`)).join("");

/** Bytes of the whole text as they were written, with the octal numbers as what they mean. @param text a character a byte */
const unquoted = (text: string): string =>
  Buffer.from(
    text.replace(/\\([0-3][0-7]{2})/g, (_, digits: string) => String.fromCharCode(Number.parseInt(digits, 8))),
    "latin1",
  ).toString();

const FILE = "# file: ";

/** Writes attributes in the form `setfattr --restore` takes (setfattr(1), getfattr(1)): values in base64. */
export const writeAttributeDump = (files: readonly AttributedFile[]): string =>
  files
    .map(
      ({ file, attributes }) =>
        `${FILE}${quoted(file)}\n${attributes.map(({ name, value }) => `${quoted(name)}=0s${Buffer.from(value).toString("base64")}\n`).join("")}\n`,
    )
    .join("");

/** Reads what `getfattr -e base64` writes. Lines that are of another form are passed by. @param text a character a byte */
export function parseAttributeDump(text: string): AttributedFile[] {
  const files: { file: string; attributes: OwnAttribute[] }[] = [];
  for (const line of text.split("\n")) {
    if (line.startsWith(FILE)) {
      files.push({ file: unquoted(line.slice(FILE.length)), attributes: [] });
      continue;
    }
    const sign = line.indexOf("=");
    const [name, value] = sign < 0 ? [line, "0s"] : [line.slice(0, sign), line.slice(sign + 1)];
    if (name !== "" && value.startsWith("0s"))
      files.at(-1)?.attributes.push({ name: unquoted(name), value: Buffer.from(value.slice(2), "base64") });
  }
  return files;
}
