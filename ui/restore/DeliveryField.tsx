"use client";

import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { type DeliveryEntry, deliveryList } from "@/server/restores/contract";
import { read } from "../data/request";
import { keys } from "../data/use-job-data";
import { bytesText } from "../instruments/words";

/** The folders a job's files may be restored to. */
export const useDeliveries = (jobId: number) =>
  useQuery({
    queryKey: keys.of(jobId, "deliveries"),
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/deliveries`, deliveryList, signal),
  });

const textOf = ({ path, replaces, refused, freeBytes, device }: DeliveryEntry): string => {
  const room = freeBytes === null ? null : `${bytesText(freeBytes)} free`;
  const facts = refused ? "not for this job" : [device?.title, device?.writable === false ? "read only" : room].filter(Boolean).join(", ");
  return `${replaces ? "back to its place: " : ""}${path} (${facts})`;
};

interface Props {
  jobId: number;
  /** The delivery folder's path; null: the usual one. */
  value: string | null;
  onChange: (delivery: string | null, replaces: boolean) => void;
}

/** Which device is written to: shown where the settings name several. */
export function DeliveryField({ jobId, value, onChange }: Props) {
  const { data = [] } = useDeliveries(jobId);
  if (data.length < 2) return null;
  return (
    <TextField
      select
      size="small"
      label="Where"
      value={value ?? data.find(({ usual }) => usual)?.path ?? ""}
      onChange={(event) => {
        const entry = data.find(({ path }) => path === event.target.value);
        if (entry) onChange(entry.usual ? null : entry.path, entry.replaces);
      }}
      sx={{ width: 340 }}
    >
      {data.map((entry) => (
        <MenuItem key={entry.path} value={entry.path} disabled={entry.refused !== null} title={entry.refused ?? entry.path}>
          {textOf(entry)}
        </MenuItem>
      ))}
    </TextField>
  );
}
