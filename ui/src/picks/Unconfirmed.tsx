import { Button } from "@mantine/core";
import type { Operation } from "../api/types";
import { useShared } from "../session/context";
import { Said, useProposal } from "./Holes";

/** What the holes of an operation may be for that the model does not show, with a click to say yes or no. */
export function Unconfirmed({ index, operation }: { index: number; operation: Operation }) {
  const { id, document, editing } = useShared();
  const proposal = useProposal(index);
  const [purpose, name] = (operation.unconfirmed ?? "").split(" ");
  const faces = (operation.holes ?? []).flatMap((h) => (typeof h.face === "number" ? [h.face] : []));
  const count = operation.holes?.length === 1 ? "This hole" : `These ${operation.holes?.length} holes`;
  const mine = document.setups[index].operations.findIndex((o) => o.name === operation.name);
  const edit = (work: (o: Operation) => void) => editing.edit((d) => work(d.setups[index].operations[mine]));
  const yes = () =>
    purpose === "fit"
      ? proposal.add(`/jobs/${id}/holes/plan`, { faces, purpose, use: name }, faces)
      : edit((o) => {
          o.unconfirmed = "";
          o.enabled = true;
        });
  const no = () =>
    purpose === "fit"
      ? edit((o) => void (o.unconfirmed = ""))
      : editing.edit((d) => void d.setups[index].operations.splice(mine, 1));
  return (
    <div className="unconfirmed" role="group" aria-label={`Use of the holes of ${operation.name}`}>
      <span>
        {count} may be {purpose === "fit" ? `a fit of ${name} mm` : `a ${operation.unconfirmed}`}: the model
        does not show it.
      </span>
      <Button size="compact-xs" variant="default" loading={proposal.busy} onClick={yes}>
        {purpose === "fit" ? "Ream as a fit" : `Make the ${operation.unconfirmed}`}
      </Button>
      <Button size="compact-xs" variant="subtle" color="gray" onClick={no}>
        {purpose === "fit" ? "Drilled is right" : "Plain hole"}
      </Button>
      <Said words={proposal.words} />
    </div>
  );
}
