"use client";

import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  LONGEST_SHARE_DAYS,
  type MadeShare,
  madeShare,
  SHARE_SCOPES,
  type Share,
  type ShareList,
  type ShareScope,
  shareList,
} from "@/server/shares/contract";
import { read, write } from "../data/request";
import { keys, useJob } from "../data/use-job-data";
import { Problem, problemText } from "../instruments/Problem";
import { countText, filesText, momentText } from "../instruments/words";
import styles from "./handover.module.css";

const SCOPES: Readonly<Record<ShareScope, string>> = {
  job: "what was found, to choose from",
  handover: "the handover and the restored files",
};

/** Links under which the client reaches this job from another computer: made, followed and ended here. */
export function SharedLinks({ jobId }: { jobId: number }) {
  const [open, setOpen] = useState(false);
  const { data, error } = useQuery({
    queryKey: keys.of(jobId, "shares"),
    queryFn: ({ signal }) => read(`/api/jobs/${jobId}/shares`, shareList, signal),
  });
  const shown = data?.shares ?? [];
  const present = shown.filter(({ state }) => state === "open").length;
  return (
    <section className={`${styles.links} screen-only`} aria-label="Links for the client">
      <div className={styles.linksHead}>
        <h2>Links for the client</h2>
        <span className={styles.soft}>{present === 0 ? "none open" : `${countText(present)} open`}</span>
        <Button variant="text" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Fold away" : "Show"}
        </Button>
      </div>
      <Problem>{problemText(error)}</Problem>
      {open && data && (
        <>
          <NewLink jobId={jobId} list={data} />
          {shown.length > 0 && (
            <ul className={styles.linkList} aria-label="Links">
              {shown.map((share) => (
                <Link key={share.id} jobId={jobId} share={share} />
              ))}
            </ul>
          )}
        </>
      )}
    </section>
  );
}

/** What is to be known of the way before anything is sent over it. */
function warningOf({ encrypted, local }: ShareList): string | null {
  if (local) return "Links lead to this computer alone: COMPASS_SHARE_HOST says at which address others may reach it.";
  return encrypted
    ? null
    : "What goes over a link is not encrypted on its way. Use it in your own network alone, or give the bench a certificate (COMPASS_SHARE_CERTIFICATE, COMPASS_SHARE_KEY).";
}

function NewLink({ jobId, list }: { jobId: number; list: ShareList }) {
  const client = useQueryClient();
  const [wanted, setWanted] = useState({ scope: "job" as ShareScope, label: "", days: "7", password: "" });
  const make = useMutation({
    mutationFn: async () => madeShare.parse(await write("POST", `/api/jobs/${jobId}/shares`, { ...wanted, days: Number(wanted.days) })),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  if (list.address === null)
    return (
      <p className={styles.soft}>
        Nothing can be shared: the bench stays on this computer. Start it with COMPASS_SHARE_HOST, the address at which clients may reach
        what is shared with them, and nothing else.
      </p>
    );
  const field = (name: "label" | "days" | "password", label: string, width: number, type = "text") => (
    <TextField
      size="small"
      type={type}
      label={label}
      value={wanted[name]}
      onChange={(event) => setWanted({ ...wanted, [name]: event.target.value })}
      slotProps={name === "days" ? { htmlInput: { min: 1, max: LONGEST_SHARE_DAYS } } : {}}
      sx={{ width }}
    />
  );
  return (
    <>
      <p className={styles.soft}>{warningOf(list)}</p>
      <form
        className={styles.linkForm}
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
      >
        <TextField
          select
          size="small"
          label="It leads to"
          value={wanted.scope}
          onChange={(event) => setWanted({ ...wanted, scope: event.target.value as ShareScope })}
          sx={{ width: 290 }}
        >
          {SHARE_SCOPES.map((scope) => (
            <MenuItem key={scope} value={scope}>
              {SCOPES[scope]}
            </MenuItem>
          ))}
        </TextField>
        {field("label", "For whom", 170)}
        {field("days", "Days", 80, "number")}
        {field("password", "Password (empty: one is made)", 220)}
        <Button type="submit" variant="contained" disabled={make.isPending}>
          Make a link
        </Button>
      </form>
      <Problem>{problemText(make.error)}</Problem>
      {make.data && <Made key={make.data.id} made={make.data} />}
    </>
  );
}

/** Address and password of a link, which are shown this once. */
function Made({ made }: { made: MadeShare }) {
  const [copied, setCopied] = useState("");
  const copy = async (what: string, text: string) => {
    await navigator.clipboard.writeText(text);
    setCopied(`${what} is copied.`);
  };
  return (
    <div className={styles.made}>
      <p>They are shown now and never again: only their hashes are kept. Send the password another way than the link.</p>
      <dl>
        <dt>Link</dt>
        <dd>
          <code>{made.address}</code>
          <Button variant="text" onClick={() => void copy("The link", made.address)}>
            Copy the link
          </Button>
        </dd>
        <dt>Password</dt>
        <dd>
          <code>{made.password}</code>
          <Button variant="text" onClick={() => void copy("The password", made.password)}>
            Copy the password
          </Button>
        </dd>
      </dl>
      <span role="status" className={styles.soft}>
        {copied}
      </span>
    </div>
  );
}

const STATES = { open: "open", ended: "ended by its date", revoked: "ended by hand" } as const;

function Link({ jobId, share }: { jobId: number; share: Share }) {
  const client = useQueryClient();
  const { data: job } = useJob(jobId);
  const change = useMutation({
    mutationFn: (what: "revoke" | "take") => write("POST", `/api/jobs/${jobId}/shares/${share.id}`, { what }),
    onSettled: () => client.invalidateQueries({ queryKey: keys.job(jobId) }),
  });
  const zone = job?.timeZone ?? "UTC";
  const facts = [
    share.state === "open" ? `open until ${momentText(share.endsAt, zone)} ${zone}` : STATES[share.state],
    share.lastOpenedAt ? `last opened ${momentText(share.lastOpenedAt, zone)}` : "never opened",
    share.tries > 0 ? `${countText(share.tries)} wrong ${share.tries === 1 ? "password" : "passwords"} since` : null,
    share.chosen > 0 ? `${filesText(share.chosen)} chosen` : null,
  ].filter(Boolean);
  return (
    <li>
      <span>
        <strong>{share.label || "No name"}</strong>: {SCOPES[share.scope]}
        <br />
        <span className={styles.soft}>{facts.join(", ")}</span>
      </span>
      {share.waiting > 0 && (
        <Button variant="outlined" disabled={change.isPending} onClick={() => change.mutate("take")}>
          Put the chosen ones into the tray
        </Button>
      )}
      {share.state === "open" && (
        <Button variant="outlined" disabled={change.isPending} onClick={() => change.mutate("revoke")}>
          End it
        </Button>
      )}
      <Problem>{problemText(change.error)}</Problem>
    </li>
  );
}
