import type { ReleaseState } from "../api/types";
import { provedWords } from "./needs";

/** Whether a release is proved, and with how many stops. */
export function ProofState({ release }: { release: Pick<ReleaseState, "state" | "stops"> }) {
  const stops = release.state === "ready" && !!release.stops;
  const look = release.state === "wrong" || stops ? "wrong" : release.state;
  const words =
    release.state === "ready" ? provedWords([release]) : release.state === "stale" ? "not proved" : "wrong";
  return <span className={`state ${look}`}>{words}</span>;
}
