import { Button } from "@mantine/core";
import { send, type RunAnswer } from "../api/client";
import { tell } from "../api/hooks";
import { useShared } from "./context";
import { Failure } from "./Failure";
import { placeOf } from "./places";
import { isOpen } from "./runs";
import type { Fault } from "../api/types";

const NAMES: Record<string, string> = { part: "Read the part", plan: "Compute the plan", prove: "Prove" };

/** What a piece of work is called on the page. */
export const workName = (target: string) => NAMES[target] ?? "Plan everything seen from here";

/** Computing and proving, at every station: the buttons, what is under way and how far, and how it ended. */
export function UnderWay() {
  const { document, runs, state, station } = useShared();
  const planned = document.setups.some((s) => s.operations.some((o) => o.enabled));
  const open = runs.filter(isOpen);
  const elsewhere = document.releases.some((r) => r.file);
  const proved = !!state?.releases.length && state.releases.every((r) => r.state === "ready");
  const part = runs.find((r) => r.target === "part");
  if (!planned && !elsewhere && open.length === 0 && (!part || part.state === "done")) return null;
  return (
    <div className="underway" role="region" aria-label="Computing">
      {(planned || elsewhere) && (
        <div className="row">
          <Start target="plan" main={station === "plan"} disabled={!planned} />
          <Start target="prove" main={station !== "plan"} disabled={proved && station !== "prove"} />
        </div>
      )}
      {open.map((run) => (
        <Progress key={run.id} run={run} running={open.find((r) => r.state === "running")} />
      ))}
      {["part", "plan", "prove"].map((target) => (
        <Ended key={target} target={target} />
      ))}
    </div>
  );
}

function Start({ target, main, disabled }: { target: string; main: boolean; disabled: boolean }) {
  const { runs, editing } = useShared();
  const open = isOpen(runs.find((r) => r.target === target));
  return (
    <Button
      size="compact-sm"
      variant={main ? "filled" : "default"}
      disabled={disabled || open}
      onClick={() => editing.start(target)}
    >
      {NAMES[target]}
    </Button>
  );
}

/** One run: how far it is, or what it waits for. */
export function Progress({ run, running }: { run: RunAnswer; running: RunAnswer | undefined }) {
  const name = workName(run.target);
  const waits = run.state === "queued";
  const words = !waits
    ? `${Math.round(100 * run.fraction)} % ${run.words}`
    : running
      ? `waits until “${workName(running.target)}” is done`
      : "waits for its turn";
  return (
    <div className="working" role="status" aria-label={`${name}: under way`}>
      <progress value={run.fraction} max={1} aria-label={name} />
      <span className="words">
        <b>{name}</b> {words}
      </span>
      <Button
        size="compact-xs"
        variant="default"
        aria-label={`Cancel: ${name}`}
        onClick={() => send("POST", `/runs/${run.id}/cancel`).catch(tell)}
      >
        Cancel
      </Button>
    </div>
  );
}

/** How the last run of a target ended, where it did not end well. */
function Ended({ target }: { target: string }) {
  const { runs, revision, station } = useShared();
  const run = runs.find((r) => r.target === target);
  if (run?.state === "cancelled")
    return <div className="small">{workName(target)}: cancelled; what was finished is kept.</div>;
  if (run?.state !== "failed" || !run.error) return null;
  const fault = run.error as Fault;
  if (fault.offer?.solids) return null; // the part's sheet asks which body it is
  const place = placeOf(fault.where);
  // a place is one of the document that was computed: in another it may be something else
  if (place && (run.revision !== revision || (station === "plan" && place.operation !== null))) return null;
  return <Failure fault={fault} />;
}
