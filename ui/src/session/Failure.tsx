import { Button } from "@mantine/core";
import type { Fault, JobDocument, Operation } from "../api/types";
import { labelOf } from "../forms/ParameterForm";
import { useShared } from "./context";
import { foundAt, placeOf, placeWords } from "./places";

/** What went wrong, where, what to do, and a button that does it where that is possible. `here`: where its operation stands. */
export function Failure({ fault, here }: { fault: Fault; here?: boolean }) {
  const { document } = useShared();
  const words = here ? "" : placeWords(fault.where, document);
  return (
    <div className="problem wrong" role="alert">
      {words && <span className="small">{words}: </span>}
      {fault.what} {fault.remedy}
      <Remedy fault={fault} />
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
  if (typeof offer.tool_at_most === "number") {
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
