import { Button } from "@mantine/core";
import { send } from "../api/client";
import { tell } from "../api/hooks";
import type { Fault } from "../api/types";
import { useShared } from "./context";
import { Failure } from "./Failure";
import { placeOf } from "./places";

interface Properties {
  target: string;
  label: string;
  disabled?: boolean;
  /** Whether the page tells of failed operations where it lists them. */
  listed?: boolean;
}

/** A button that starts background work, its progress, and how it ended. */
export function Working({ target, label, disabled, listed }: Properties) {
  const { runs, editing, revision } = useShared();
  const run = runs.find((r) => r.target === target);
  const place = placeOf(run?.error?.where ?? "");
  // a place is one of the document that was computed: in another it may be something else
  const told =
    run?.state === "failed" && (run.revision === revision || !place) && !(listed && place?.operation != null);
  const open = run && ["queued", "running"].includes(run.state);
  return (
    <div>
      {open ? (
        <div className="working" role="status" aria-label={`${label}: under way`}>
          <progress value={run.fraction} max={1} />
          <span>
            {Math.round(100 * run.fraction)} % {run.words || "waiting"}
          </span>
          <Button
            size="compact-xs"
            variant="default"
            onClick={() => send("POST", `/runs/${run.id}/cancel`).catch(tell)}
          >
            Cancel
          </Button>
        </div>
      ) : (
        <Button disabled={disabled} onClick={() => editing.start(target)}>
          {label}
        </Button>
      )}
      {told && run.error && !(run.error as Fault).offer?.solids && <Failure fault={run.error as Fault} />}
      {run?.state === "cancelled" && <div className="small">Cancelled; what was finished is kept.</div>}
    </div>
  );
}
