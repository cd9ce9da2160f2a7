import type { ByteSource } from "../../core/bytes/byte-source";

/** A source of nothing but holes that counts what is read of it. */
export function holes(size: number): ByteSource & { readonly counted: () => number } {
  let read = 0;
  return {
    size,
    read: (_, into) => {
      read += into.length;
      into.fill(0);
    },
    unreadable: () => [],
    counted: () => read,
  };
}
