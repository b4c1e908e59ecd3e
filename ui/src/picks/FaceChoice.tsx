import { Button } from "@mantine/core";
import type { Operation } from "../api/types";
import { useShared } from "../session/context";
import { useChosen } from "../session/store";

/** More faces than these are told by their number. */
const FEW = 12;

/** Which faces a surface operation finishes: it cuts where its tool touches them. */
export function FaceChoice({
  doc,
  edit,
}: {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}) {
  const { faces } = useShared();
  const { set } = useChosen("set");
  const mine = doc.faces ?? [];
  const show = () =>
    set({ picks: mine.filter((f) => faces[f - 1]).map((face) => ({ face, point: faces[face - 1].low })) });
  if (mine.length === 0)
    return (
      <p className="small">
        Click faces in the view (Shift for several) that it should finish; without any it finishes all that
        lies in its borders.
      </p>
    );
  return (
    <div role="group" aria-label="Faces to finish">
      <p className="small">
        {mine.length > FEW ? `${mine.length} faces` : `Faces ${mine.join(", ")}`}: it cuts where the tool
        touches {mine.length > 1 ? "them" : "it"}.
      </p>
      <div className="row">
        <Button size="compact-xs" variant="subtle" onClick={show}>
          Show
        </Button>
        <Button
          size="compact-xs"
          variant="subtle"
          color="gray"
          onClick={() => edit((o) => void (o.faces = []))}
        >
          Finish everything
        </Button>
      </div>
    </div>
  );
}
