import { useEffect, useRef } from "react";
import { useShared } from "../session/context";
import { useSession } from "../session/store";
import { Working } from "../session/Working";
import { Said, useProposal } from "./Holes";

/**
 * Plans all that is seen from the chosen setup: chosen, computed and proved in the background, then added to the
 * sheet, if the job is still as it was when that began.
 */
export function WholePlan() {
  const { id, document, revision, runs } = useShared();
  const { setup } = useSession();
  const proposal = useProposal();
  const target = `whole:${setup}`;
  const run = runs.find((r) => r.target === target);
  const open = run && ["queued", "running"].includes(run.state);
  const followed = useRef<number | null>(null);
  useEffect(() => {
    if (open) followed.current = run.id;
    else if (run && run.id === followed.current) {
      followed.current = null;
      if (run.state === "done" && run.revision === revision)
        void proposal.add(`/jobs/${id}/plan/proposed`, {});
    }
  });
  if (!document.setups[setup] || !document.part) return null;
  return (
    <div style={{ marginTop: 10 }}>
      <Working target={target} label="Plan everything seen from here" />
      <Said words={proposal.words} />
    </div>
  );
}
