import type { JobState } from "../../api/types";
import type { Station } from "../../session/context";
import { provedWords } from "../../session/needs";

const WORKING: Record<string, string> = { part: "reading the part", plan: "computing", prove: "proving" };

interface Standing {
  text: string;
  look: "ready" | "stale" | "wrong";
  /** Where the job is to be gone on with. */
  station: Station;
}

/** How a job stands, in words, and where to go on. */
export function standing(state: JobState | undefined, working: string): Standing {
  if (working) return { text: WORKING[working] ?? "planning", look: "stale", station: "plan" };
  if (!state) return { text: "", look: "stale", station: "plan" };
  if (state.part.state === "missing") return { text: "no model yet", look: "stale", station: "part" };
  if (state.part.state === "unread") return { text: "model not read", look: "stale", station: "part" };
  if (state.setups.length === 0) return { text: "no setup yet", look: "stale", station: "setups" };
  if (state.setups.some((s) => s.state === "wrong"))
    return { text: "a setup is wrong", look: "wrong", station: "setups" };
  const operations = state.setups.flatMap((s) => s.operations);
  if (operations.length === 0 && state.releases.length === 0)
    return { text: "no operation yet", look: "stale", station: "plan" };
  const failed = operations.filter((o) => o.state === "failed").length;
  if (failed)
    return { text: `${failed} operation${failed > 1 ? "s" : ""} failed`, look: "wrong", station: "plan" };
  if (state.releases.some((r) => r.state !== "ready")) {
    const open = operations.some((o) => o.state !== "ready");
    return { text: open ? "not computed" : "not proved", look: "stale", station: open ? "plan" : "prove" };
  }
  const stops = state.releases.some((r) => r.stops);
  const cautions = state.releases.reduce((sum, r) => sum + (r.cautions ?? 0), 0);
  const more = cautions ? `, ${cautions} caution${cautions > 1 ? "s" : ""}` : "";
  return { text: provedWords(state.releases) + more, look: stops ? "wrong" : "ready", station: "prove" };
}
