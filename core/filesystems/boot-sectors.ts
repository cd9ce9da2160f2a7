/** Sector sizes in use. Bytes. */
export const SECTOR_SIZES = [512, 4096] as const;

export const powerOfTwo = (value: number): boolean => value > 0 && (value & (value - 1)) === 0;
