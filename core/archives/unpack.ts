import type { ByteSource } from "../bytes/byte-source";
import { type Limits, type Unpacked, unpackWhole } from "../bytes/whole-file";
import { brokenTarAt } from "./tar-headers";

/** Unpacks an archive that is compressed as a whole; null: it is not. Damage that its packing does not show is found by its headers. */
export const unpackArchive = (source: ByteSource, limits?: Limits): Unpacked | null => unpackWhole(source, brokenTarAt, limits);
