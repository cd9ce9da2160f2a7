/** Upper half of code page 850, in which older tools write names (table of the Unicode Consortium, VENDORS/MICSFT/PC/CP850). */
const CODE_PAGE_850 =
  "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜø£Ø×ƒáíóúñÑªº¿®¬½¼¡«»░▒▓│┤ÁÂÀ©╣║╗╝¢¥┐└┴┬├─┼ãÃ╚╔╩╦╠═╬¤ðÐÊËÈıÍÎÏ┘┌█▄¦Ì▀ÓßÔÒõÕµþÞÚÛÙýÝ¯´\u00ad±‗¾¶§÷¸°¨·¹³²■\u00a0";
const utf8 = new TextDecoder("utf-8", { fatal: true });

/** A name as its tool wrote it: UTF-8 where it says so or is it, else the common 8-bit code. */
export function decodeName(raw: Uint8Array, isUtf8: boolean): string {
  try {
    return utf8.decode(raw);
  } catch {
    if (isUtf8) return new TextDecoder().decode(raw);
    return Array.from(raw, (byte) => (byte < 128 ? String.fromCharCode(byte) : CODE_PAGE_850[byte - 128])).join("");
  }
}
