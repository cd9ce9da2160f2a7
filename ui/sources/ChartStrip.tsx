"use client";

import { usePathname, useRouter } from "next/navigation";
import { useMemo } from "react";
import { owner } from "@/server/sources/contract";
import { read as fetchAs } from "../data/request";
import { useAddress } from "../data/use-address";
import { useFinds, useSources } from "../data/use-job-data";
import { DiskChart } from "../instruments/DiskChart";
import { openedCopy } from "../items/rows";
import { useItemDetail } from "../items/use-items";
import { useVolumeReadings } from "./read-stretches";

/** Which found file holds a byte of the disk. */
export const findOwner = (jobId: number, sourceId: number, byte: number) =>
  fetchAs(`/api/jobs/${jobId}/sources/${sourceId}/owner?at=${byte}`, owner);

/** The strip along the foot of every view: the source in question to scale, with the finds and the chosen copy's bytes. */
export function ChartStrip({ jobId }: { jobId: number }) {
  const { data: sources } = useSources(jobId);
  const { data: finds = [] } = useFinds(jobId);
  const read = useVolumeReadings(jobId);
  const [address, change] = useAddress();
  const path = usePathname();
  const router = useRouter();
  const opened = Number(address.get("item")) || null;
  const { data: item } = useItemDetail(jobId, opened, [address.get("copy")]);
  const copy = opened === null || !item ? undefined : openedCopy(item, address);
  const wanted = copy?.sourceId ?? Number(address.get("source"));
  const source = sources?.find((each) => each.id === wanted) ?? sources?.[0];
  const marks = useMemo(() => finds.find((each) => each.sourceId === source?.id)?.at ?? [], [finds, source?.id]);
  if (source?.container === "folder")
    return (
      <p style={{ margin: "6px 0 8px", fontSize: 12.5, color: "var(--mui-palette-chart-inkSoft)" }}>
        {source.name} is a folder: its files stand wherever its own drive keeps them, so there is no chart of it.
      </p>
    );
  if (!source)
    return (
      <p style={{ margin: "6px 0 8px", fontSize: 12.5, color: "var(--mui-palette-chart-inkSoft)" }}>
        {/* Whether there is one is only known once they are read. */}
        {sources && "No source yet: the chart of the disk appears here."}
      </p>
    );
  const pick = async (byte: number) => {
    const found = await findOwner(jobId, source.id, byte).catch(() => null);
    if (!found) return;
    const item = String(found.itemId);
    if (path.endsWith("/items")) change({ item, copy: String(found.copyId) }, true);
    else router.push(`/jobs/${jobId}/items?item=${item}&copy=${found.copyId}${found.live ? "&show=all" : ""}`);
  };
  return <DiskChart source={source} read={read} finds={marks} onPick={pick} {...(copy ? { chosen: copy.runs } : {})} />;
}
