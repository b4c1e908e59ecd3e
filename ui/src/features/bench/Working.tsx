import { Button } from "@mantine/core";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import { useShared } from "./context";

/** A button that starts background work, its progress, and how it ended. */
export function Working({ target, label, disabled }: { target: string; label: string; disabled?: boolean }) {
  const { runs, editing } = useShared();
  const run = runs.find((r) => r.target === target);
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
      {run?.state === "failed" && run.error && (
        <div className="problem wrong" role="alert">
          {run.error.where && <span className="small">{run.error.where}: </span>}
          {run.error.what} {run.error.remedy}
        </div>
      )}
      {run?.state === "cancelled" && <div className="small">Cancelled; what was finished is kept.</div>}
    </div>
  );
}
