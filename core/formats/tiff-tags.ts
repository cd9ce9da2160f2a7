/** Tags of TIFF 6.0 (part 1, section 8) and Exif 2.3 (4.6), by number. */
export const TAG = {
  width: 256,
  height: 257,
  bitsPerSample: 258,
  compression: 259,
  description: 270,
  make: 271,
  model: 272,
  stripOffsets: 273,
  stripByteCounts: 279,
  dateTime: 306,
  artist: 315,
  tileOffsets: 324,
  tileByteCounts: 325,
  subIfds: 330,
  jpegAt: 513,
  jpegLength: 514,
  exifIfd: 34_665,
  gpsIfd: 34_853,
  dateTimeOriginal: 36_867,
  makerNote: 37_500,
  pixelWidth: 40_962,
  pixelHeight: 40_963,
  interopIfd: 40_965,
  rawVersion: 50_706,
} as const;

/** Bytes of one value by its type's number (TIFF 6.0, section 2; 13 and 16 to 18 from the technical notes and BigTIFF). */
export const TYPE_BYTES: readonly number[] = [0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8, 4, 0, 0, 8, 8, 8];
