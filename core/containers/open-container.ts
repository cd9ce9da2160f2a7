import type { ByteSource } from "../bytes/byte-source";
import { type Container, type Neighbours, NO_NEIGHBOURS } from "./container";
import { encryptedImage } from "./encrypted-image";
import { openPacked } from "./packed";
import { openSparseBundle } from "./sparse-bundle";
import { openSparseImage } from "./sparse-image";
import { openSplit } from "./split";
import { openTapeMedia } from "./tape-media";
import { openTarParts } from "./tar-parts";
import { openUdif } from "./udif";
import { openVhd } from "./vhd";
import { openVhdx } from "./vhdx";
import { openZipParts } from "./zip-parts";

/**
 * Opens whatever holds a disk. What is none of the known containers is the raw disk itself. Parts of a split image may hold
 * a container in their turn.
 * @throws ContainerError when a container's structure cannot be followed, or a part or parent is missing
 */
export function openContainer(file: ByteSource, neighbours: Neighbours = NO_NEIGHBOURS): Container {
  const split = openZipParts(file, neighbours) ?? openSplit(file, neighbours);
  const whole = split?.disk ?? file;
  const closed = encryptedImage(whole);
  if (closed) return { kind: "raw", form: null, disk: whole, identity: null, created: null, closed, notes: split?.notes ?? [] };
  const inside =
    openVhdx(whole, neighbours) ??
    openVhd(whole, neighbours) ??
    openSparseImage(whole) ??
    openSparseBundle(whole, neighbours) ??
    openUdif(whole, neighbours) ??
    openTapeMedia(whole, neighbours) ??
    openTarParts(whole, neighbours) ??
    openPacked(whole, neighbours.name);
  if (inside) return split ? { ...inside, notes: [...split.notes, ...inside.notes] } : inside;
  return split ?? { kind: "raw", form: null, disk: file, identity: null, created: null, notes: [] };
}
