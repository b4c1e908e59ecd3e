import { createContext, useContext } from "react";
import type { Editing } from "../api/hooks";
import type { RunAnswer } from "../api/client";
import type { EdgeFacts, FaceFacts, JobDocument, JobState, Library } from "../api/types";

export const STATIONS = ["part", "setups", "tools", "plan", "prove", "release"] as const;
export type Station = (typeof STATIONS)[number];

/** What every sheet and card of a job needs. */
export interface Shared {
  id: number;
  station: Station;
  go: (station: Station) => void;
  document: JobDocument;
  /** The revision that the server has saved last. */
  revision: number;
  state: JobState | undefined;
  library: Library;
  faces: FaceFacts[];
  edges: EdgeFacts[];
  runs: RunAnswer[];
  editing: Editing;
}

export const SessionContext = createContext<Shared | null>(null);

export function useShared(): Shared {
  const shared = useContext(SessionContext);
  if (!shared) throw new Error("used outside of a bench");
  return shared;
}

export function clock(seconds: number): string {
  const s = Math.round(seconds);
  const h = Math.floor(s / 3600);
  const m = Math.floor((s % 3600) / 60);
  const rest = String(s % 60).padStart(2, "0");
  return h ? `${h}:${String(m).padStart(2, "0")}:${rest}` : `${m}:${rest}`;
}
