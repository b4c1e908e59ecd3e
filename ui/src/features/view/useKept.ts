import { useEffect } from "react";
import type { Boundary, Setup, Vec3 } from "../../api/types";
import type { BenchScene } from "../../scene/BenchScene";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";

type Line = { points: Vec3[]; out: boolean };

/** The polygons of a border, those of its areas too. */
function polygons(b: Boundary, setup: Setup): [number, number][][] {
  if (b.polygon) return [b.polygon as [number, number][]];
  const area = b.area ? (setup.areas ?? []).find((a) => a.name === b.area) : undefined;
  return area ? area.of.flatMap((inner) => polygons(inner, setup)) : [];
}

/** The faces of a border, those of its areas too. */
function facesOf(b: Boundary, setup: Setup): number[] {
  if (b.faces) return b.faces;
  const area = b.area ? (setup.areas ?? []).find((a) => a.name === b.area) : undefined;
  return area ? area.of.flatMap((inner) => facesOf(inner, setup)) : [];
}

/** What keeps the chosen operation's tool in or out, over the stock; areas of the setup while none is chosen. */
export function useKeptAreas(scene: BenchScene | null) {
  const { document, state, station, edges } = useShared();
  const { setup, operation } = useChosen("setup", "operation");
  const own = document.setups[setup];
  const top = state?.setups[setup]?.stock?.max[2] ?? 0;
  const doc = operation !== null ? own?.operations[operation] : undefined;
  const borders: { b: Boundary; out: boolean }[] =
    station !== "plan" || !own
      ? []
      : doc
        ? [...doc.keep_in.map((b) => ({ b, out: false })), ...doc.keep_out.map((b) => ({ b, out: true }))]
        : (own.areas ?? []).flatMap((a) => a.of.map((b) => ({ b, out: false })));
  const lines: Line[] = borders.flatMap(({ b, out }) =>
    polygons(b, own).map((polygon) => ({ points: polygon.map(([x, y]) => [x, y, top] as Vec3), out })),
  );
  const rims = (out: boolean) => {
    const faces = new Set(borders.filter((x) => x.out === out).flatMap(({ b }) => facesOf(b, own)));
    return edges.filter((e) => e.faces.some((f) => faces.has(f))).map((e) => e.id);
  };
  const shown = JSON.stringify([lines, rims(false), rims(true)]);
  useEffect(() => {
    scene?.drawing.setKept(lines);
    scene?.marks.setKept(rims(false), rims(true));
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, shown]);
}
