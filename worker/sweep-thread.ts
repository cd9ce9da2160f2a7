import { workerData } from "node:worker_threads";
import { Domain } from "../core/sweep/domain";
import { unitsFrom } from "../core/sweep/sweep";
import { UnitScanner } from "../core/sweep/unit";
import { openDisk } from "../io/open-source";
import { logReaderFaults } from "../server/log/reader-faults";
import { AHEAD_OF_SETTLED, type SentUnit, SHARED, type SweepThreadData } from "./sweep-units";

logReaderFaults();

/** Takes one stretch after the other, whichever is next, and sends what it found in it. */
function run({ ranges, options, from, shared, port, ...source }: SweepThreadData): void {
  const numbers = new Int32Array(shared);
  const send = (message: SentUnit) => {
    port.postMessage(message);
    Atomics.add(numbers, SHARED.sent, 1);
    Atomics.notify(numbers, SHARED.sent);
  };
  try {
    const { disk, close } = openDisk(source);
    const domain = new Domain(ranges);
    const scanner = new UnitScanner({ disk, limitOf: (at) => domain.limitOf(at) }, options);
    let wanted = Atomics.add(numbers, SHARED.next, 1);
    let index = 0;
    for (const unit of unitsFrom(domain, from)) {
      if (index === wanted) {
        while (index > Atomics.load(numbers, SHARED.settled) + AHEAD_OF_SETTLED) {
          if (Atomics.load(numbers, SHARED.stop)) return;
          Atomics.wait(numbers, SHARED.settled, Atomics.load(numbers, SHARED.settled), 1000);
        }
        if (Atomics.load(numbers, SHARED.stop)) break;
        const finds = scanner.scan(unit).map((find) => ({ ...find, format: find.format.id }));
        send({ index, finds, unreadable: disk.unreadable(0, disk.size) });
        wanted = Atomics.add(numbers, SHARED.next, 1);
      }
      index += 1;
    }
    close();
  } catch (error) {
    send({ problem: (error as Error).message });
  }
}

run(workerData as SweepThreadData);
