import { Button, Checkbox } from "@mantine/core";
import type { Operation } from "../../api/types";
import { useBench } from "./store";
import { useShared } from "./context";

/** More walls than these are told by their number. */
const FEW = 6;

/** Which walls an operation follows, or whose edges it breaks. */
export function WallChoice({
  doc,
  edit,
  edges,
}: {
  doc: Operation;
  edges: boolean;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}) {
  const { faces } = useShared();
  const { set } = useBench();
  const walls = doc.walls ?? [];
  const outline = walls.some((w) => w.outline);
  const chosen = walls.flatMap((w) => (w.face == null ? [] : [w.face]));
  const words = (id: number) => {
    const face = faces[id - 1];
    const level = face?.normal && Math.abs(face.normal[2]) > 0.99;
    if (edges) return level ? `the edges of face ${id}` : `the edge at face ${id}`;
    return level ? `the walls that meet face ${id}` : `wall ${id}`;
  };
  return (
    <div role="group" aria-label={edges ? "Edges to break" : "Walls to follow"}>
      <Checkbox
        size="xs"
        my={4}
        label={edges ? "The outline at the part's top" : "The whole outline of the part"}
        checked={outline}
        onChange={() =>
          edit((o) => {
            const rest = (o.walls ?? []).filter((w) => !w.outline);
            o.walls = outline ? rest : [{ face: null, outline: true }, ...rest];
          })
        }
      />
      {chosen.length > FEW && (
        <div className="row">
          <Button
            size="compact-xs"
            variant="subtle"
            onClick={() =>
              set({
                picks: chosen.flatMap((f) => (faces[f - 1] ? [{ face: f, point: faces[f - 1].low }] : [])),
              })
            }
          >
            Show these {chosen.length}
          </Button>
          <Button
            size="compact-xs"
            variant="subtle"
            color="gray"
            onClick={() => edit((o) => void (o.walls = (o.walls ?? []).filter((w) => w.outline)))}
          >
            Remove all
          </Button>
        </div>
      )}
      {(chosen.length > FEW ? [] : chosen).map((id) => (
        <div key={id} className="row">
          <Button
            size="compact-xs"
            variant="subtle"
            onClick={() => faces[id - 1] && set({ picks: [{ face: id, point: faces[id - 1].low }] })}
          >
            {words(id)}
          </Button>
          <Button
            size="compact-xs"
            variant="subtle"
            color="gray"
            aria-label={`Leave out ${words(id)}`}
            onClick={() => edit((o) => void (o.walls = (o.walls ?? []).filter((w) => w.face !== id)))}
          >
            Remove
          </Button>
        </div>
      ))}
      <p className="small">
        {edges
          ? "Click tops in the view (Shift for several), walls under an edge, or chamfers that the model shows."
          : "Click walls in the view (Shift for several), or a floor or top for all walls that meet it."}
      </p>
    </div>
  );
}
