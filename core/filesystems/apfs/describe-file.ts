import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { type Layout, LayoutSource, layoutOf, type Segment } from "../../bytes/layout";
import { ALL_BYTES_THERE, absent, type ByteEvidence, type Content, type FileRecord, NO_CONTENT, placed } from "../file-record";
import { describeUse, tellsOfUse } from "../mac-attributes";
import { COMPRESSION_ATTRIBUTE, compressedContent, FINDER_STREAM, RESOURCE_STREAM } from "../mac-compression";
import { finderFlagsIn, marksOfMac } from "../mac-marks";
import { nanosecondsToMs } from "../mac-times";
import type { Group } from "./groups";
import { COMPRESSED, LINK_ATTRIBUTE, MODE, RECORD_TYPE, RESOURCE_ATTRIBUTE } from "./layout";
import { type Extent, parseExtent } from "./records";
import type { VolumeState } from "./state";

const MOST_TARGET = 4096;
const MOST_ATTRIBUTE = 1 << 20;

const lostOf = (layout: Layout): ByteEvidence => {
  const lost = layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);
  return lost > 0 ? { ...ALL_BYTES_THERE, lost } : ALL_BYTES_THERE;
};

/** What is asked of the state of a volume. */
type Records = Pick<VolumeState, "sealedExtents" | "recordsOf"> & {
  readonly container: { readonly objects: { readonly blockSize: number; readonly blockCount: number } };
};

/** A volume of which no state can be followed any more: only what single nodes say is known. */
export const noState = (blockSize: number, blockCount: number): Records => ({
  sealedExtents: () => null,
  *recordsOf() {},
  container: { objects: { blockSize, blockCount } },
});

/** Describes files of a state of a volume by the records of their numbers. */
export class FileDescriber {
  constructor(
    /** The whole disk. */
    private readonly disk: ByteSource,
    /** Where the container begins on it. */
    private readonly start: number,
    private readonly state: Records,
    private readonly index: number,
  ) {}

  extentsOf({ id, inode, extents }: Group): readonly Extent[] {
    const { privateId } = inode.facts;
    return this.#streamExtents(privateId, privateId === id ? extents : null);
  }

  /** @param known those that were met already; null: they have to be looked up */
  #streamExtents(streamId: number, known: readonly Extent[] | null): readonly Extent[] {
    const sealed = this.state.sealedExtents(streamId);
    if (sealed) return sealed;
    if (known && known.length > 0) return known;
    const found: Extent[] = [];
    for (const { node, index, type } of this.state.recordsOf(streamId)) {
      if (type !== RECORD_TYPE.extent) continue;
      const extent = parseExtent(node, index);
      if (extent) found.push(extent);
    }
    return found;
  }

  /** Lays out a data stream. Extents name holes as such: bytes that none of them has are lost with the node that had it. */
  #layoutOf(extents: readonly Extent[], size: number): Layout {
    const { blockSize, blockCount } = this.state.container.objects;
    const segments: Segment[] = [];
    let at = 0;
    for (const { logical, length, block } of [...extents].sort((a, b) => a.logical - b.logical)) {
      if (logical >= size || length <= 0 || logical < at) continue;
      if (logical > at) segments.push({ kind: "lost", length: logical - at });
      if (block === 0) segments.push({ kind: "hole", length });
      else if (block + Math.ceil(length / blockSize) > blockCount) segments.push({ kind: "lost", length });
      else segments.push({ kind: "disk", at: this.start + block * blockSize, length });
      at = logical + length;
    }
    if (at < size) segments.push({ kind: "lost", length: size - at });
    return layoutOf(segments, size);
  }

  /** A file or folder by its records; path and name are the caller's. @param evidence of one that is gone; null: it is there */
  describe(group: Group, extents: readonly Extent[], evidence: ((layout: Layout) => ByteEvidence) | null): FileRecord {
    const { id, inode, attributes } = group;
    const { facts } = inode;
    const kind = facts.mode & MODE.mask;
    const folder = kind === MODE.folder;
    const place = (layout: Layout): Content => placed(layout, evidence ? evidence(layout) : lostOf(layout));
    const byName = new Map(attributes.map((attribute) => [attribute.name, attribute]));
    const layoutOfAttribute = ({ held, stream, paddr }: (typeof attributes)[number]): Layout => {
      if (held) {
        const at = this.start + paddr * this.state.container.objects.blockSize + held.at;
        return { size: held.bytes.length, segments: [{ kind: "held", at, length: held.bytes.length, bytes: held.bytes }] };
      }
      const size = Math.min(stream?.size ?? 0, 2 ** 50);
      return this.#layoutOf(this.#streamExtents(stream?.id ?? 0, null), size);
    };
    const notes: string[] = [];
    let size = folder ? 0 : Math.min(inode.size ?? 0, 2 ** 50);
    let content: Content = folder ? NO_CONTENT : place(this.#layoutOf(extents, size));
    const coded = byName.get(COMPRESSION_ATTRIBUTE);
    const resource = byName.get(RESOURCE_ATTRIBUTE);
    let usesResource = false;
    if (!folder && coded && (facts.bsdFlags & COMPRESSED) !== 0) {
      const layout = layoutOfAttribute(coded);
      const at = layout.segments[0];
      const bytes = readBytes(new LayoutSource(this.disk, layout), 0, Math.min(layout.size, MOST_ATTRIBUTE));
      const found = compressedContent(
        { bytes, at: at?.kind === "held" ? at.at : 0 },
        resource ? layoutOfAttribute(resource) : null,
        this.disk,
      );
      if (found) {
        ({ size, usesResource } = found);
        content = found.layout ? place(found.layout) : absent("not-followed", found.notes.join(" "));
        if (found.layout) notes.push(...found.notes);
      }
    }
    if (kind === MODE.link) {
      const target = byName.get(LINK_ATTRIBUTE)?.held?.bytes.subarray(0, MOST_TARGET) ?? new Uint8Array();
      const end = target.indexOf(0);
      const text = target.subarray(0, end < 0 ? target.length : end);
      size = text.length;
      content = absent("not-followed", `A link to “${new TextDecoder().decode(text)}”: it is shown and not followed.`);
    }
    for (const { name, held } of attributes) {
      const said = held && tellsOfUse(name) ? describeUse(name, held.bytes) : null;
      if (said) notes.push(said);
    }
    const streams = attributes
      .filter((attribute) => attribute !== coded && attribute.name !== LINK_ATTRIBUTE && !(usesResource && attribute === resource))
      .map((attribute) => {
        const layout = layoutOfAttribute(attribute);
        return { name: attribute === resource ? RESOURCE_STREAM : attribute.name, size: layout.size, layout };
      });
    return {
      reference: `number ${id} of volume ${this.index}`,
      state: "live",
      type: folder ? "folder" : "file",
      path: "",
      name: "",
      rawName: new Uint8Array(),
      size,
      created: nanosecondsToMs(facts.createLow, facts.createHigh),
      modified: nanosecondsToMs(facts.modifyLow, facts.modifyHigh),
      changed: nanosecondsToMs(facts.changeLow, facts.changeHigh),
      content,
      system: false,
      streams,
      links: 1,
      marks: marksOfMac({ flags: facts.bsdFlags, mode: facts.mode, finderFlags: finderFlagsIn(byName.get(FINDER_STREAM)?.held?.bytes) }),
      notes,
    };
  }
}
