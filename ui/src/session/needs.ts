import type { ReleaseState } from "../api/types";
import type { Shared, Station } from "./context";
import { isOpen } from "./runs";

/** Proved releases in words: with a stop that is open they are not fine. */
export function provedWords(releases: Pick<ReleaseState, "stops">[]): string {
  const stops = releases.reduce((sum, r) => sum + (r.stops ?? 0), 0);
  return stops ? `proved, ${stops} stop${stops > 1 ? "s" : ""}` : "proved";
}

/** What is missing, stale or failed at a station, in a word or two; empty when nothing is. */
export function needs(station: Station, { document, state, runs }: Shared): string {
  const busy = (target: string) => isOpen(runs.find((r) => r.target === target));
  switch (station) {
    case "part":
      if (!document.part) return "no model";
      if (busy("part")) return "reading";
      return state?.part.state === "unread" ? "not read" : "";
    case "setups":
      if (document.setups.length === 0) return document.part ? "none" : "";
      return state?.setups.some((s) => s.state === "wrong") ? "check" : "";
    case "tools":
      return document.tools.length === 0 && document.setups.length > 0 ? "none" : "";
    case "plan": {
      if (document.setups.length === 0 || document.tools.length === 0) return "";
      const on = document.setups.flatMap((s, i) =>
        s.operations.flatMap((o, k) => (o.enabled ? [state?.setups[i]?.operations[k]?.state] : [])),
      );
      if (on.length === 0) return "empty";
      if (busy("plan")) return "computing";
      const failed = on.filter((s) => s === "failed").length;
      const fresh = on.filter((s) => s === "new" || s === undefined).length;
      const stale = on.filter((s) => s === "stale").length;
      if (failed) return `${failed} failed`;
      return stale ? `${stale} stale` : fresh ? `${fresh} not computed` : "";
    }
    case "prove":
      if (busy("prove")) return "proving";
      if (!state || state.releases.length === 0) return "";
      return state.releases.some((r) => r.state !== "ready") ? "to prove" : provedWords(state.releases);
    case "release":
      return "";
  }
}
