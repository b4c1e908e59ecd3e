import type { Shared, Station } from "./context";

/** What is missing, stale or failed at a station, in a word or two; empty when nothing is. */
export function needs(station: Station, { document, state, runs }: Shared): string {
  const busy = (target: string) =>
    runs.some((r) => r.target === target && ["queued", "running"].includes(r.state));
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
      const stale = on.filter((s) => s !== "ready").length;
      return failed ? `${failed} failed` : stale ? `${stale} stale` : "";
    }
    case "prove":
      if (busy("prove")) return "proving";
      return state && state.releases.length > 0 && state.releases.some((r) => r.state !== "ready")
        ? "to prove"
        : "";
    case "release":
      return "";
  }
}
