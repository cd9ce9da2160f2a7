/**
 * Arithmetic on CRC-32 (ITU-T V.42, 8.1.1.6.2; reflected, as `crc32` of node:zlib gives it): a CRC is a remainder of polynomials over two values, so that
 * the CRC of bytes that are put together follows from those of the parts. The way of computing with powers of x is that of the zlib library's
 * `crc32_combine`.
 */
const POLYNOMIAL = 0xedb8_8320;
/** After so many bits powers of x come again: the polynomial is primitive. */
const ORDER = 2 ** 32 - 1;

/** Multiplies two remainders. */
export function multiply(a: number, b: number): number {
  let product = 0;
  let factor = b;
  for (let bit = 0x8000_0000; bit !== 0; bit >>>= 1) {
    if ((a & bit) !== 0) product ^= factor;
    factor = (factor & 1) !== 0 ? (factor >>> 1) ^ POLYNOMIAL : factor >>> 1;
  }
  return product >>> 0;
}

/** x to the powers of 1, 2, 4 …, as remainders. */
const POWERS = (() => {
  const powers = [0x4000_0000];
  for (let k = 1; k < 32; k += 1) powers.push(multiply(powers[k - 1] as number, powers[k - 1] as number));
  return powers;
})();

/** What a CRC is multiplied by when so many bytes come behind; negative: when they are taken away again. */
export function behind(bytes: number): number {
  let bits = (((bytes * 8) % ORDER) + ORDER) % ORDER;
  let product = 0x8000_0000;
  for (let k = 0; bits > 0; k += 1) {
    if (bits % 2 === 1) product = multiply(product, POWERS[k] as number);
    bits = Math.floor(bits / 2);
  }
  return product;
}
