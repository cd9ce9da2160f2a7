import { isIPv6 } from "node:net";
import { networkInterfaces } from "node:os";
import { readSettings, type Settings } from "../settings";

const ANY = new Set(["0.0.0.0", "::"]);
const LOCAL = /^(localhost|127(\.\d{1,3}){3}|::1)$/;

/** Where the door for clients listens; null: sharing is not switched on. */
export function doorOf(settings: Settings): { host: string; port: number; encrypted: boolean } | null {
  if (settings.COMPASS_SHARE_HOST === "") return null;
  const { COMPASS_SHARE_HOST: host, COMPASS_SHARE_PORT: port, COMPASS_SHARE_CERTIFICATE: certificate } = settings;
  return { host, port: port ?? settings.COMPASS_PORT + 1, encrypted: certificate !== undefined };
}

/** This computer's first address in a network. */
function ownAddress(): string {
  const all = Object.values(networkInterfaces()).flatMap((list) => list ?? []);
  return all.find(({ internal, family }) => !internal && family === "IPv4")?.address ?? "127.0.0.1";
}

/** How links begin, as clients reach them; null: sharing is not switched on. */
export function shareAddress(settings: Settings = readSettings()): string | null {
  const door = doorOf(settings);
  if (!door) return null;
  if (settings.COMPASS_SHARE_ADDRESS) return settings.COMPASS_SHARE_ADDRESS;
  const host = ANY.has(door.host) ? ownAddress() : door.host;
  return `${door.encrypted ? "https" : "http"}://${isIPv6(host) ? `[${host}]` : host}:${door.port}`;
}

/** Whether links are encrypted on their way, as far as their address says, and whether they lead to this computer alone. */
export function describeAddress(address: string | null): { encrypted: boolean; local: boolean } {
  if (address === null) return { encrypted: false, local: false };
  const { protocol, hostname } = new URL(address);
  return { encrypted: protocol === "https:", local: LOCAL.test(hostname.replace(/^\[|\]$/g, "")) };
}
