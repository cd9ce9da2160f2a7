/** Marks of a file, added up: it is not to be written to; it is not to be shown. */
export const FILE_MARK = { readOnly: 1, hidden: 2 } as const;

/** The marks of FAT, exFAT and NTFS, whose lowest two attribute bits are the same ([MS-FSCC] 2.6). */
export const marksOfAttributes = (attributes: number): number => attributes & (FILE_MARK.readOnly | FILE_MARK.hidden);

/** The owner's right to write in a Unix mode. */
const OWNER_WRITES = 0o200;
/** The mark of a file its owner may not write. @param mode Unix mode; 0: none is kept */
export const marksOfMode = (mode: number): number => (mode !== 0 && (mode & OWNER_WRITES) === 0 ? FILE_MARK.readOnly : 0);
