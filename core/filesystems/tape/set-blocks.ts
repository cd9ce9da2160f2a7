import { Cursor } from "../../bytes/cursor";
import { type Block, setDateOf, textIn } from "./block";
import type { TapeSet, TapeVolume } from "./entries";
import { SET_ENCRYPTED, SSET, VOLB } from "./layout";

const clean = (text: string | undefined): string | null => text?.replace(/\0+$/, "") || null;

/** Describes the set a block begins. */
export function toSet(block: Block): TapeSet {
  const values = SSET.read(new Cursor(block.bytes), 0);
  const zone = (values.timeZone << 24) >> 24;
  return {
    at: block.at,
    number: values.setNumber,
    name: clean(textIn(block, values.nameSize, values.nameAt)?.text),
    user: clean(textIn(block, values.userSize, values.userAt)?.text),
    date: setDateOf(block),
    timeZone: Math.abs(zone) > 56 ? null : zone,
    encrypted: (block.common.attributes & SET_ENCRYPTED) !== 0,
  };
}

/** Describes the volume a block begins. */
export function toVolume(block: Block): TapeVolume {
  const values = VOLB.read(new Cursor(block.bytes), 0);
  return {
    device: clean(textIn(block, values.deviceSize, values.deviceAt)?.text),
    name: clean(textIn(block, values.volumeSize, values.volumeAt)?.text),
    machine: clean(textIn(block, values.machineSize, values.machineAt)?.text),
  };
}
