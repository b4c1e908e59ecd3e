import { Button } from "@mantine/core";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { Fault, JobDocument, Operation } from "../../api/types";
import { labelOf } from "../../forms/ParameterForm";
import { useShared } from "./context";
import { foundAt, placeOf, placeWords } from "./places";

/** A button that starts background work, its progress, and how it ended. */
export function Working({ target, label, disabled }: { target: string; label: string; disabled?: boolean }) {
  const { runs, editing, document, revision } = useShared();
  const run = runs.find((r) => r.target === target);
  // a place is one of the document that was computed: in another it may be something else
  const told = run?.state === "failed" && (run.revision === revision || !placeOf(run.error?.where ?? ""));
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
      {told && run.error && (
        <div className="problem wrong" role="alert">
          {run.error.where && <span className="small">{placeWords(run.error.where, document)}: </span>}
          {run.error.what} {run.error.remedy}
          <Remedy fault={run.error as Fault} />
        </div>
      )}
      {run?.state === "cancelled" && <div className="small">Cancelled; what was finished is kept.</div>}
    </div>
  );
}

/** Changes an operation that failed as its error offers; nothing where nothing can be offered. */
function Remedy({ fault }: { fault: Fault }) {
  const { document, library, editing } = useShared();
  const place = placeOf(fault.where);
  const { operation } = foundAt(place, document);
  const { offer } = fault;
  if (!offer || !operation) return null;
  const edit = (work: (o: Operation, d: JobDocument) => void) =>
    editing.edit((d) => work(foundAt(place, d).operation!, d));
  const button = (label: string, act: () => void) => (
    <div style={{ marginTop: 6 }}>
      <Button size="compact-xs" variant="default" onClick={act}>
        {label}
      </Button>
    </div>
  );
  if (offer.tool_at_most !== undefined) {
    const now = document.tools.find((t) => t.number === operation.tool);
    const most = offer.tool_at_most + 0.005;
    const fits = [...document.tools, ...library.tools].filter(
      (t) => t.kind === now?.kind && t.diameter <= most,
    );
    const best = fits.sort((a, b) => b.diameter - a.diameter)[0];
    if (!best) return null;
    return button(`Use ${best.name} instead`, () =>
      edit((o, d) => {
        const mine = d.tools.find((t) => t.number === best.number && t.name === best.name);
        let number = best.number;
        while (!mine && d.tools.some((t) => t.number === number)) number++;
        if (!mine) d.tools.push({ ...best, number });
        o.tool = mine?.number ?? number;
      }),
    );
  }
  const given = { ...offer.set, ...offer.parameters };
  const [key, value] = Object.entries(given)[0] ?? [];
  if (!key) return null;
  if (key === "enabled") return button("Switch it off", () => edit((o) => void (o.enabled = false)));
  const strategy = library.strategies.find((s) => s.id === operation.strategy);
  const label = labelOf(key, strategy?.parameters.properties[key]);
  return button(`Set “${label}” to ${String(value).replaceAll("_", "-")}`, () =>
    edit((o) => {
      Object.assign(o, offer.set);
      Object.assign(o.parameters, offer.parameters);
    }),
  );
}
