import { type ByteSource, readBytes } from "../bytes/byte-source";
import { asciiText } from "../bytes/text";

/** Marks of encrypted Mac disk images: at the beginning, or in an older form at the end. From memory. */
const [HEAD, TAIL] = ["encrcdsa", "cdsaencr"];

/** Why an image stays closed, in plain words; null: nothing says that it is encrypted. */
export function encryptedImage(file: ByteSource): string | null {
  if (file.size < 512) return null;
  const marked = asciiText(readBytes(file, 0, 8)) === HEAD || asciiText(readBytes(file, file.size - 8, 8)) === TAIL;
  return marked
    ? "This disk image is encrypted. Ask the client for the password, have it opened with the client's own system, and open the result here."
    : null;
}
