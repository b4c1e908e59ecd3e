import { Button, Checkbox } from "@mantine/core";
import { useState } from "react";
import type { Operation, WallPick } from "../api/types";
import { useChosen } from "../session/store";
import { useShared } from "../session/context";

/** More walls than these are told by their number. */
const FEW = 6;

/** What to click, by what the operation works on. */
const HELP = {
  walls:
    "Click walls in the view (Shift for several), an edge of one, or a floor or top for all walls that meet it.",
  rims: "Click tops in the view (Shift for several), an edge or the wall under it, or chamfers that the model shows.",
  ruled: "Click leaning walls in the view (Shift for several) whose lines from foot to top are straight.",
};

/** Which walls an operation follows or finishes with the side of its tool, or whose edges it breaks. */
export function WallChoice({
  doc,
  edit,
  target,
}: {
  doc: Operation;
  target: "walls" | "rims" | "ruled";
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}) {
  const edges = target === "rims";
  const { faces, edges: lines } = useShared();
  const { set } = useChosen("set");
  const [open, unfold] = useState(false);
  const walls = doc.walls ?? [];
  const outline = walls.some((w) => w.outline);
  const chosen = walls.filter((w) => !w.outline);
  const words = (wall: WallPick) => {
    if (wall.edge) return edges ? `edge ${wall.edge}` : `the wall at edge ${wall.edge}`;
    const id = wall.face!;
    if (target === "ruled") return `wall ${id}`;
    const face = faces[id - 1];
    const level = face?.normal && Math.abs(face.normal[2]) > 0.99;
    if (edges) return level ? `the edges of face ${id}` : `the edge at face ${id}`;
    return level ? `the walls that meet face ${id}` : `wall ${id}`;
  };
  const show = (some: WallPick[]) =>
    set({
      picks: some.flatMap((w) => {
        const line = w.edge ? lines[w.edge - 1] : undefined;
        if (line) return [{ face: line.faces[0], point: line.start, edge: line.id }];
        return w.face && faces[w.face - 1] ? [{ face: w.face, point: faces[w.face - 1].low }] : [];
      }),
    });
  return (
    <div
      role="group"
      aria-label={edges ? "Edges to break" : target === "ruled" ? "Walls to finish" : "Walls to follow"}
    >
      {target !== "ruled" && (
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
      )}
      {chosen.length > FEW && (
        <div className="row">
          <Button size="compact-xs" variant="subtle" onClick={() => show(chosen)}>
            Show these {chosen.length}
          </Button>
          <Button size="compact-xs" variant="subtle" aria-expanded={open} onClick={() => unfold(!open)}>
            {open ? "Fold the list" : "List them"}
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
      {(chosen.length > FEW && !open ? [] : chosen).map((wall) => (
        <div key={words(wall)} className="row">
          <Button size="compact-xs" variant="subtle" onClick={() => show([wall])}>
            {words(wall)}
          </Button>
          <Button
            size="compact-xs"
            variant="subtle"
            color="gray"
            aria-label={`Remove ${words(wall)}`}
            onClick={() =>
              edit((o) => {
                o.walls = (o.walls ?? []).filter((w) => w.face !== wall.face || w.edge !== wall.edge);
              })
            }
          >
            Remove
          </Button>
        </div>
      ))}
      <p className="small">{HELP[target]}</p>
    </div>
  );
}
