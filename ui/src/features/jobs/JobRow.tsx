import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { request } from "../../api/client";
import type { JobState } from "../../api/types";
import { standing } from "./standing";

export interface Listed {
  id: number;
  name: string;
  updated: string;
  problem: string;
  revision: number;
  machines: string[];
  /** What is computed now: part, plan, prove or a whole plan; empty where nothing is. */
  working: string;
}

const MOMENT: Intl.DateTimeFormatOptions = { dateStyle: "medium", timeStyle: "short" };

/** A job on the shelf: the part's picture, what the job is waiting for, its machines, its last change. */
export function JobRow({ job, remove }: { job: Listed; remove: () => void }) {
  const state = useQuery({
    queryKey: ["state", job.id, job.revision, job.working],
    queryFn: () => request<JobState>(`/jobs/${job.id}/state`),
    enabled: !job.problem,
    placeholderData: (before) => before,
  }).data;
  const part = state?.part.state === "ready" ? state.part.key : null;
  const words = standing(state, job.working);
  const to = `/jobs/${job.id}/${state && state.part.state !== "ready" ? "part" : words.station}`;
  return (
    <li>
      <Link to={to} className="picture" aria-hidden tabIndex={-1}>
        {part ? (
          <img src={`/api/jobs/${job.id}/part/picture/${part}`} alt="" width={160} height={100} />
        ) : (
          <span className="small">no picture yet</span>
        )}
      </Link>
      <div className="about">
        {job.problem ? job.name : <Link to={to}>{job.name}</Link>}
        {job.problem ? (
          <>
            <div className="problem wrong">Cannot be opened: {job.problem}</div>
            <a href={`/api/jobs/${job.id}/document.json`} download>
              Download its document
            </a>
          </>
        ) : (
          <div>
            <span className={`state ${words.look}`}>{words.text}</span>
          </div>
        )}
        <div className="small">{job.machines.join(", ")}</div>
      </div>
      <div className="small moment">
        {new Date(job.updated).toLocaleString(undefined, MOMENT)}
        <Button
          variant="subtle"
          size="compact-xs"
          color="gray"
          aria-label={`Delete ${job.name}`}
          onClick={remove}
        >
          Delete
        </Button>
      </div>
    </li>
  );
}
