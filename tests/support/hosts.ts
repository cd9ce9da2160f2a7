import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { randomBytes } from "node:crypto";
import { connect, createServer, type Server } from "node:net";

/** A host of its own on this machine: its network, its name, and what it sees of the file systems. It reaches the others by one link alone. */
export interface TestHost {
  readonly name: string;
  /** What it calls the service that stands behind the link. */
  readonly gateway: { readonly address: string; readonly port: number };
  /** Starts a program there. @param hidden folders that are empty to it */
  start(program: readonly string[], env: NodeJS.ProcessEnv, hidden?: readonly string[]): ChildProcess;
  /** Runs a program there to its end. @returns whether it went well */
  run(program: readonly string[]): boolean;
  close(): void;
}

const ip = (...args: string[]) => execFileSync("ip", args, { stdio: ["ignore", "ignore", "pipe"] });

/** Whether hosts can be made here: network namespaces (ip-netns(8), iproute2) and views of the file systems (unshare(1), util-linux), as root only. */
export function mayMakeHosts(): boolean {
  const name = `tc-${randomBytes(4).toString("hex")}`;
  try {
    ip("netns", "add", name);
    execFileSync("ip", ["netns", "exec", name, "unshare", "--mount", "--uts", "true"], { stdio: "ignore" });
    return true;
  } catch {
    return false;
  } finally {
    try {
      ip("netns", "delete", name);
    } catch {
      // It was never made.
    }
  }
}

/** Makes a host that reaches one service of this one, on the loopback, and nothing else. @param port the service's */
export async function makeHost(port: number): Promise<TestHost> {
  const id = randomBytes(4).toString("hex");
  const name = `tc-${id}`;
  const [here, there] = [`tc${id}a`, `tc${id}b`];
  // A link of two addresses, of those that are nobody's outside (RFC 1918).
  const [second, third, fourth] = [
    16 + ((id.charCodeAt(0) * 7) % 200),
    Number.parseInt(id.slice(0, 2), 16),
    Number.parseInt(id.slice(2, 4), 16) & 0xfc,
  ];
  const [near, far] = [`10.${second}.${third}.${fourth + 1}`, `10.${second}.${third}.${fourth + 2}`];
  ip("netns", "add", name);
  let relay: Server | null = null;
  const close = () => {
    relay?.close();
    ip("netns", "delete", name);
  };
  try {
    ip("link", "add", here, "type", "veth", "peer", "name", there, "netns", name);
    ip("address", "add", `${near}/30`, "dev", here);
    ip("link", "set", here, "up");
    ip("-n", name, "address", "add", `${far}/30`, "dev", there);
    ip("-n", name, "link", "set", there, "up");
    ip("-n", name, "link", "set", "lo", "up");
    relay = await relayTo(near, port);
  } catch (error) {
    close();
    throw error;
  }
  const address = relay.address();
  if (address === null || typeof address === "string") throw new Error("the relay has no port");
  const enter = ["netns", "exec", name, "unshare", "--mount", "--uts"];
  return {
    name,
    gateway: { address: near, port: address.port },
    start(program, env, hidden = []) {
      const script = [`hostname ${name}`, ...hidden.map((folder) => `mount -t tmpfs none "${folder}"`), 'exec "$@"'].join(" && ");
      return spawn("ip", [...enter, "sh", "-c", script, "sh", ...program], { stdio: ["ignore", "ignore", "inherit"], env });
    },
    run(program) {
      try {
        execFileSync("ip", [...enter, ...program], { stdio: "ignore", timeout: 20_000 });
        return true;
      } catch {
        return false;
      }
    },
    close,
  };
}

/** Hands what comes in at an address on to a port of the loopback. */
function relayTo(address: string, port: number): Promise<Server> {
  return new Promise((done, failed) => {
    const server = createServer((near) => {
      const far = connect(port, "127.0.0.1");
      near.pipe(far).pipe(near);
      for (const [one, other] of [
        [near, far],
        [far, near],
      ] as const)
        one.on("error", () => other.destroy());
    });
    server.on("error", failed);
    server.listen(0, address, () => done(server));
  });
}
