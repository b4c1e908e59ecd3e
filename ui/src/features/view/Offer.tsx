import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { send } from "../../api/client";
import { followsFaces, isRound } from "../../api/traits";
import { shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";
import { useRounds } from "../../picks/Holes";
import { loopOf } from "../../picks/loops";
import { holeAt, lineOf } from "../../session/fresh";
import { useChosen } from "../../session/store";
import { WorkFrom } from "../../picks/WorkFrom";

interface Row {
  label: string;
  value: number;
  unit: string;
}

/** What is known of the picked geometry, and what can be done with it at this station. */
export function Offer() {
  const { station, faces, edges, document, editing, id, library } = useShared();
  const { picks, setup, operation, wantedWords, set } = useChosen(
    "picks",
    "setup",
    "operation",
    "wantedWords",
    "set",
  );
  const measured = useQuery({
    queryKey: ["measure", id, picks],
    queryFn: () =>
      send<Row[]>(
        "POST",
        `/jobs/${id}/measure`,
        picks.slice(-2).map(({ face, point }) => ({ face, point })),
      ),
    enabled: picks.length > 0,
  });
  const chosen = document.setups[setup];
  const doc = station === "plan" && operation !== null ? chosen?.operations[operation] : undefined;
  const strategy = library.strategies.find((s) => s.id === doc?.strategy);
  const round = strategy && isRound(strategy) ? strategy : undefined;
  const rounds = useRounds(round?.target ?? "holes");
  if (wantedWords) {
    return (
      <div className="offer" role="status">
        {wantedWords} (Esc to let go)
      </div>
    );
  }
  if (picks.length === 0) return null;
  const last = picks[picks.length - 1];
  const face = faces[last.face - 1];
  const alike = face ? faces.filter((f) => f.kind === face.kind && likeness(f) === likeness(face)) : [];
  const change = (work: Parameters<typeof editing.edit>[0]) => {
    editing.edit(work);
    set({ picks: [] });
  };
  const picked = [...new Set(picks.map((p) => p.face))];
  const breaks = strategy?.target === "rims";
  const makes = round
    ? rounds.flatMap((g) => g.faces).filter((own) => own.some((f) => picked.includes(f)))
    : [];
  const engraves = strategy?.target === "lines";
  const level = !!face?.normal && Math.abs(face.normal[2]) > 0.99;
  const ruled = strategy?.target === "ruled";
  const follows = breaks || ruled || strategy?.target === "walls";
  const edge = last.edge ? edges[last.edge - 1] : undefined;
  const loop = edge ? loopOf(edge, last.face, edges) : [];
  const verb = engraves ? "Engrave" : breaks ? "Break" : "Follow";
  const takeEdges = (ids: number[]) =>
    change((d) => {
      const o = d.setups[setup].operations[operation!];
      const fresh = (have: { edge?: number | null }[]) => ids.filter((e) => !have.some((p) => p.edge === e));
      if (engraves) o.lines = [...(o.lines ?? []), ...fresh(o.lines ?? []).map((edge) => lineOf({ edge }))];
      else {
        const more = fresh(o.walls ?? []).map((edge) => ({ face: null, edge, outline: false }));
        o.walls = [...(o.walls ?? []), ...more];
      }
    });
  return (
    <div className="offer" aria-label="Picked geometry">
      {measured.data?.map((row) => (
        <div key={row.label} className="follows">
          <span>{row.label}</span>
          <span className="figure">{shownRow(row, document.units)}</span>
        </div>
      ))}
      <div className="row">
        {station === "part" && picks.length === 1 && (
          <span className="small">Pick a second face to measure between.</span>
        )}
        {station === "setups" && chosen && face && (face.normal || face.axis) && (
          <Button
            size="compact-xs"
            onClick={() =>
              change((d) => {
                d.setups[setup].up = { axis: null, face: face.id, reverse: false };
              })
            }
          >
            This way up
          </Button>
        )}
        {(station === "setups" || station === "plan") && <WorkFrom />}
        {station === "setups" && chosen && (
          <Button
            size="compact-xs"
            variant="default"
            onClick={() =>
              change((d) => {
                d.setups[setup].zero = {
                  of: "point",
                  x: "middle",
                  y: "middle",
                  z: "high",
                  point: last.point,
                };
              })
            }
          >
            Zero at this point
          </Button>
        )}
        {makes.length > 0 && (
          <Button
            size="compact-xs"
            onClick={() =>
              change((d) => {
                const o = d.setups[setup].operations[operation!];
                const have = new Set((o.holes ?? []).map((h) => h.face));
                const more = makes.filter((own) => !own.some((f) => have.has(f)));
                o.holes = [...(o.holes ?? []), ...more.map((own) => holeAt(own[0]))];
              })
            }
          >
            Make {makes.length > 1 ? `these ${makes.length}` : "this one"}
          </Button>
        )}
        {engraves && (
          <Button
            size="compact-xs"
            onClick={() =>
              change((d) => {
                const o = d.setups[setup].operations[operation!];
                o.lines = [...(o.lines ?? []), ...picked.map((face) => lineOf({ face }))];
              })
            }
          >
            Engrave {picked.length > 1 ? `these ${picked.length} borders` : "this border"}
          </Button>
        )}
        {follows && (
          <Button
            size="compact-xs"
            onClick={() =>
              change((d) => {
                const o = d.setups[setup].operations[operation!];
                const have = new Set((o.walls ?? []).map((w) => w.face));
                const more = picked.filter((f) => !have.has(f)).map((face) => ({ face, outline: false }));
                o.walls = [...(o.walls ?? []), ...more];
              })
            }
          >
            {breaks ? "Break" : ruled ? "Finish" : "Follow"}{" "}
            {picked.length > 1
              ? `these ${picked.length}`
              : breaks
                ? "these edges"
                : level && !ruled
                  ? "its walls"
                  : "this wall"}
          </Button>
        )}
        {((follows && !ruled) || engraves) && edge && (
          <>
            <Button size="compact-xs" variant="default" onClick={() => takeEdges([edge.id])}>
              {verb} edge {edge.id}
            </Button>
            {loop.length > 1 && (
              <Button size="compact-xs" variant="default" onClick={() => takeEdges(loop)}>
                {verb} its loop of {loop.length}
              </Button>
            )}
          </>
        )}
        {strategy && followsFaces(strategy) && (
          <Button
            size="compact-xs"
            onClick={() =>
              change((d) => {
                const o = d.setups[setup].operations[operation!];
                o.faces = [...new Set([...(o.faces ?? []), ...picked])];
              })
            }
          >
            Finish {picked.length > 1 ? `these ${picked.length}` : "this face"}
          </Button>
        )}
        {doc && strategy?.axis !== "moving" && (
          <>
            <Button
              variant={follows || followsFaces(strategy!) ? "default" : "filled"}
              size="compact-xs"
              onClick={() =>
                change((d) => {
                  const o = d.setups[setup].operations[operation!];
                  o.keep_in = [...o.keep_in, { faces: picked, stock: false, polygon: null, offset: 0 }];
                })
              }
            >
              Cut only {picked.length > 1 ? `these ${picked.length}` : "this face"}
            </Button>
            <Button
              size="compact-xs"
              variant="default"
              onClick={() =>
                change((d) => {
                  const o = d.setups[setup].operations[operation!];
                  o.keep_out = [...o.keep_out, { faces: picked, stock: false, polygon: null, offset: 0 }];
                })
              }
            >
              Keep out
            </Button>
          </>
        )}
        {alike.length > 1 && station !== "part" && (
          <Button
            size="compact-xs"
            variant="subtle"
            onClick={() => set({ picks: alike.map((f) => ({ face: f.id, point: f.low })) })}
          >
            All {alike.length} alike
          </Button>
        )}
      </div>
    </div>
  );
}

function likeness(face: {
  kind: string;
  radius: number | null;
  normal: number[] | null;
  high: number[];
  hollow: boolean | null;
}) {
  const normal = face.normal?.map((n) => n.toFixed(3)).join();
  return [
    face.radius?.toFixed(3),
    face.hollow,
    normal,
    face.kind === "plane" ? face.high[2].toFixed(3) : "",
  ].join("|");
}

function shownRow(row: Row, units: "mm" | "inch") {
  if (row.unit === "mm") return `${shownLength(row.value, units)} ${units === "inch" ? "in" : "mm"}`;
  if (row.unit === "mm²") {
    return units === "inch" ? `${(row.value / 645.16).toFixed(4)} in²` : `${row.value.toFixed(2)} mm²`;
  }
  return `${row.value.toFixed(3)} ${row.unit}`;
}
