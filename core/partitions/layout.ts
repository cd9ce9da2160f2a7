/**
 * Where things stand in partition tables, all little-endian.
 * MBR: UEFI Specification 5.2.1 (legacy master boot record). GPT: UEFI Specification 5.3.2 and 5.3.3.
 */
export const MBR = {
  diskSignature: 0x1b8,
  entries: 0x1be,
  entrySize: 16,
  entryCount: 4,
  signature: 0x1fe,
  signatureValue: 0xaa55,
} as const;

export const MBR_ENTRY = { status: 0, type: 4, startLba: 8, sectors: 12 } as const;

export const MBR_TYPE = { empty: 0x00, gptProtective: 0xee, extended: [0x05, 0x0f, 0x85] as readonly number[] } as const;

export const GPT_HEADER = {
  magic: "EFI PART",
  headerSize: 0x0c,
  headerCrc: 0x10,
  myLba: 0x18,
  alternateLba: 0x20,
  diskGuid: 0x38,
  entriesLba: 0x48,
  entryCount: 0x50,
  entrySize: 0x54,
  entriesCrc: 0x58,
  smallestSize: 92,
} as const;

export const GPT_ENTRY = { type: 0x00, id: 0x10, firstLba: 0x20, lastLba: 0x28, name: 0x38, nameBytes: 72, smallestSize: 128 } as const;
