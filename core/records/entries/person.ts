import type { Entry } from "./entry";

/** The site of a page (RFC 3986, the host of its authority). */
function siteOf(address: string | null): string | null {
  const host = /^[a-z][a-z0-9+.-]*:\/\/(?:[^/?#@]*@)?([^/?#:]+)/i.exec(address ?? "");
  return host?.[1]?.toLowerCase() ?? null;
}

/** Who wrote it, or which site it is of. */
export const personOf = ({ kind, who, address }: Entry) => (kind === "visits" ? siteOf(address) : who);
