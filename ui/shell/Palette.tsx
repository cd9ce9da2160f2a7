"use client";

import { useColorScheme } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useParams, useRouter } from "next/navigation";
import { z } from "zod";
import { jobSummary } from "@/server/jobs/contract";
import { read } from "../data/request";
import styles from "./palette.module.css";
import { STAGE_WORDS, STAGES } from "./stages";

/** Goes anywhere by a few letters: jobs, stages of the present job, actions. */
export function Palette({ onClose, onKeys }: { onClose: () => void; onKeys: () => void }) {
  const router = useRouter();
  const { job } = useParams<{ job?: string }>();
  const { mode, systemMode, setMode } = useColorScheme();
  const { data: jobs = [] } = useQuery({ queryKey: ["jobs"], queryFn: () => read("/api/jobs", z.array(jobSummary)) });
  const night = (mode === "system" ? systemMode : mode) === "dark";
  const go = (path: string) => () => {
    onClose();
    router.push(path);
  };
  return (
    <Command.Dialog
      open
      onOpenChange={(open) => !open && onClose()}
      label="Go to"
      overlayClassName={styles.veil ?? ""}
      contentClassName={styles.box ?? ""}
    >
      <Command.Input placeholder="Go to a job, a stage, an action …" aria-label="Go to" />
      <Command.List>
        <Command.Empty>Nothing of this name.</Command.Empty>
        {job && (
          <Command.Group heading="This job">
            {STAGES.map((stage) => (
              <Command.Item key={stage} onSelect={go(`/jobs/${job}/${stage}`)}>
                {STAGE_WORDS[stage]}
              </Command.Item>
            ))}
          </Command.Group>
        )}
        <Command.Group heading="Jobs">
          {jobs.map((each) => (
            <Command.Item key={each.id} value={`${each.title} ${each.client} ${each.id}`} onSelect={go(`/jobs/${each.id}/account`)}>
              {each.title}
              <span>{each.client}</span>
            </Command.Item>
          ))}
        </Command.Group>
        <Command.Group heading="Actions">
          <Command.Item onSelect={go("/?new=yes")}>New job</Command.Item>
          <Command.Item onSelect={go("/")}>All jobs</Command.Item>
          <Command.Item
            onSelect={() => {
              setMode(night ? "light" : "dark");
              onClose();
            }}
          >
            {night ? "Day chart" : "Night chart"}
          </Command.Item>
          <Command.Item
            onSelect={() => {
              onClose();
              onKeys();
            }}
          >
            Keys of this view
          </Command.Item>
          <Command.Item onSelect={go("/places")}>Known places</Command.Item>
          <Command.Item onSelect={go("/settings")}>Settings</Command.Item>
        </Command.Group>
      </Command.List>
    </Command.Dialog>
  );
}
