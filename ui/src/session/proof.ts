import { useProof } from "../api/hooks";
import { useShared } from "./context";
import { useSession } from "./store";

/** The facts of the release that is looked at, if it is proved. */
export function useChosenProof() {
  const { state } = useShared();
  const index = useSession((s) => s.release);
  const release = state?.releases[Math.min(index, (state?.releases.length ?? 1) - 1)];
  const proof = useProof(release?.state === "ready" ? release.key : undefined);
  return { release, facts: proof.data };
}
