import { connect, createServer, type Socket } from "node:net";

/** A connection to a server that can be held still or cut, as by a tired network or a server that goes away. */
export interface UnsteadyLink {
  readonly port: number;
  /** Nothing comes through, either way, for so many milliseconds; what was sent meanwhile comes then. */
  hold(ms: number): Promise<void>;
  /** Cuts all connections there are. New ones may be made. */
  cut(): void;
  close(): void;
}

export async function unsteadyLink(to: { host: string; port: number }): Promise<UnsteadyLink> {
  const pairs = new Set<[Socket, Socket]>();
  let held = false;
  const server = createServer((near) => {
    const far = connect(to.port, to.host);
    const pair: [Socket, Socket] = [near, far];
    pairs.add(pair);
    near.pipe(far);
    far.pipe(near);
    if (held) for (const socket of pair) socket.pause();
    for (const socket of pair) {
      socket.on("error", () => undefined);
      socket.on("close", () => {
        pairs.delete(pair);
        for (const each of pair) each.destroy();
      });
    }
  });
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done));
  return {
    port: (server.address() as { port: number }).port,
    hold: async (ms) => {
      held = true;
      for (const pair of pairs) for (const socket of pair) socket.pause();
      await new Promise((done) => setTimeout(done, ms));
      held = false;
      for (const pair of pairs) for (const socket of pair) socket.resume();
    },
    cut: () => {
      for (const pair of pairs) for (const socket of pair) socket.destroy();
    },
    close: () => {
      for (const pair of pairs) for (const socket of pair) socket.destroy();
      server.close();
    },
  };
}
