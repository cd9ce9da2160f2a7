import type { Cluster } from "./cluster";
import { EndingError } from "./commands";
import type { Service } from "./services";

/** A part that lived as long as this is taken for sound again. Milliseconds. */
const SOUND_MS = 60_000;
const FIRST_PAUSE_MS = 500;
const LONGEST_PAUSE_MS = 30_000;
/** Deaths in a row after which a part is not started again. */
const MOST_DEATHS = 8;
/** How often the database is looked at. Milliseconds. */
const LOOK_MS = 1_000;

/** What a part ends with that lost its database: it waits for it when it is started anew, which is no fault of its own. */
const LOST_DATABASE = 75;

const pauseAfter = (deaths: number) => Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** (deaths - 1));

export interface Supervised {
  stop(): Promise<void>;
}

/** Keeps a part of the application running: when it dies it is started anew, with growing pauses; the other parts are left alone. */
export function supervise(name: string, first: Service, start: () => Service): Supervised {
  let present = first;
  let deaths = 0;
  let ending = false;
  let timer: NodeJS.Timeout | undefined;
  const watch = (service: Service, since: number) => {
    service.process.on("exit", (code, signal) => {
      if (ending) return;
      if (code === LOST_DATABASE) deaths = 1;
      else deaths = Date.now() - since > SOUND_MS ? 1 : deaths + 1;
      const how = signal ? `was ended by ${signal}` : `ended with ${code}`;
      if (deaths >= MOST_DEATHS) {
        console.error(
          `The ${name} ${how}, ${deaths} times in a row, and is not started again. The lines above say why; end this with Ctrl-C, mend that, and start again.`,
        );
        return;
      }
      const pause = pauseAfter(deaths);
      console.error(`The ${name} ${how}; it is started again in ${pause / 1000} s.`);
      timer = setTimeout(() => {
        present = start();
        watch(present, Date.now());
      }, pause);
    });
  };
  watch(first, Date.now());
  return {
    stop: async () => {
      ending = true;
      clearTimeout(timer);
      await present.stop();
    },
  };
}

/** Keeps the application's own database running: however often it dies, it is started again. */
export function superviseCluster(cluster: Cluster): Supervised {
  let ending = false;
  let deaths = 0;
  let timer: NodeJS.Timeout | undefined;
  const again = (ms: number) => {
    if (!ending) timer = setTimeout(() => void look(), ms);
  };
  const look = async () => {
    if (cluster.isRunning()) {
      deaths = 0;
      return again(LOOK_MS);
    }
    deaths += 1;
    console.error("The database has ended; it is started again.");
    try {
      await cluster.restart();
      console.error("The database is back: work goes on.");
      again(LOOK_MS);
    } catch (error) {
      if (error instanceof EndingError) return;
      const pause = pauseAfter(deaths);
      console.error(`${(error as Error).message}\nIt is tried again in ${pause / 1000} s; what was stored is kept.`);
      again(pause);
    }
  };
  again(LOOK_MS);
  return {
    stop: async () => {
      ending = true;
      clearTimeout(timer);
      cluster.stop();
    },
  };
}
