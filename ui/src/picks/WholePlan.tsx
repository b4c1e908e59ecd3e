import { Button } from "@mantine/core";
import { useEffect, useRef } from "react";
import type { RunAnswer } from "../api/client";
import type { Fault } from "../api/types";
import { useShared } from "../session/context";
import { Failure } from "../session/Failure";
import { isOpen } from "../session/runs";
import { useChosen, useSession } from "../session/store";
import { Said, useProposal } from "./Holes";

/** Plans all that is seen from the chosen setup: chosen, computed and proved in the background. */
export function WholePlan() {
  const { document, runs, editing } = useShared();
  const { setup, proposed } = useChosen("setup", "proposed");
  const target = `whole:${setup}`;
  const run = runs.find((r) => r.target === target);
  if (!document.setups[setup] || !document.part) return null;
  return (
    <div style={{ marginTop: 10 }}>
      <Button disabled={isOpen(run)} onClick={() => editing.start(target)}>
        {document.setups[setup].sides?.length
          ? "Plan everything seen from above and its sides"
          : "Plan everything seen from here"}
      </Button>
      {run?.state === "failed" && run.error && <Failure fault={run.error as Fault} />}
      {run?.state === "cancelled" && <div className="small">Cancelled; what was finished is kept.</div>}
      {proposed?.setup === setup && <Said words={proposed.words} />}
    </div>
  );
}

/** Adds whole plans to the sheet when they are done, if the job is still as it was when they began. */
export function FollowedPlans() {
  const { runs } = useShared();
  return runs
    .filter((r) => r.target.startsWith("whole:"))
    .map((r) => <Followed key={r.target} run={r} setup={Number(r.target.split(":")[1])} />);
}

function Followed({ run, setup }: { run: RunAnswer; setup: number }) {
  const { id, revision } = useShared();
  const set = useSession((s) => s.set);
  const proposal = useProposal(setup);
  const followed = useRef<number | null>(null);
  useEffect(() => {
    if (isOpen(run)) followed.current = run.id;
    else if (run.id === followed.current) {
      followed.current = null;
      if (run.state !== "done") return;
      if (run.revision === revision) void proposal.add(`/jobs/${id}/plan/proposed`, {});
      else {
        const words = "The job was changed while its plan was computed: nothing was added. Plan it again.";
        set({ proposed: { setup, words: [words] } });
      }
    }
  });
  useEffect(() => {
    if (proposal.words.length) set({ proposed: { setup, words: proposal.words } });
  }, [proposal.words, set, setup]);
  return null;
}
