"use client";

import { useMemo } from "react";
import { type Pass, passKind } from "@/server/passes/contract";
import { usePasses, useSources } from "../data/use-job-data";
import type { Stretch, VolumeReading } from "../instruments/DiskChart";

/** What passes have read of each volume so far, by volume id. */
export function useVolumeReadings(jobId: number): ReadonlyMap<number, VolumeReading> {
  const { data: passes } = usePasses(jobId);
  const { data: sources } = useSources(jobId);
  return useMemo(() => {
    const readings = new Map<number, VolumeReading>();
    for (const { volumes } of sources ?? [])
      for (const volume of volumes) {
        const own = (passes ?? []).filter((pass) => pass.storeId === volume.id);
        const records = own.findLast(({ place }) => place === "file-record");
        const swept = own.filter(({ place }) => passKind(place).looksThroughBytes).flatMap((pass) => sweptBy(pass, volume));
        readings.set(volume.id, { share: records ? shareOf(records) : 0, swept: swept.sort((a, b) => a.start - b.start) });
      }
    return readings;
  }, [passes, sources]);
}

type Done = Pick<Pass, "done" | "total">;
const shareOf = ({ done, total }: Done) => (total > 0 ? Math.min(1, done / total) : 0);

/** What one pass has looked through: as much of its stretches as it has done, from the first on. Disk byte offsets. */
export function sweptBy(pass: Done & Pick<Pass, "reach" | "options">, volume: { offset: number; length: number }): Stretch[] {
  const { from = 0, to = 100 } = pass.options;
  const at = (percent: number) => volume.offset + (volume.length * percent) / 100;
  const reach = pass.reach ?? [{ start: at(from), end: at(to) }];
  let left = reach.reduce((sum, { start, end }) => sum + end - start, 0) * shareOf(pass);
  const swept: Stretch[] = [];
  for (const { start, end } of reach) {
    if (left <= 0) break;
    swept.push({ start, end: Math.min(end, start + left) });
    left -= end - start;
  }
  return swept;
}
