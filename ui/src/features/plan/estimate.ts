import type { FaceFacts, Operation, Tool } from "../../api/types";

export interface Estimate {
  /** mm between passes. */
  stepover: number;
  passes: number;
  minutes: number;
  /** mm² that is passed over, and how long the passes are, mm. */
  area: number;
  length: number;
}

/** The stepover with which a ball or a corner of a radius leaves cusps so high on level ground: 2 √(2 R c − c²). */
export const stepoverOf = (radius: number, cusp: number) =>
  2 * Math.sqrt(Math.max(2 * radius * cusp - cusp * cusp, 0));

/** Whether a face stands upright in a setup whose up is a direction of the part. */
const upright = (face: FaceFacts, up: readonly number[]) =>
  !!face.normal && Math.abs(face.normal.reduce((sum, v, i) => sum + v * up[i], 0)) < 0.01;

/**
 * What passes over faces come to before anything is computed: their area over the stepover is the way, the feed makes
 * it a time. `reached` are the faces that are seen from here, which count where the operation has none of its own.
 */
export function estimated(
  doc: Pick<Operation, "faces">,
  parameters: Record<string, unknown>,
  tool: Pick<Tool, "kind" | "diameter" | "corner_radius">,
  feed: number,
  faces: FaceFacts[],
  reached: number[],
  up: readonly number[],
): Estimate | null {
  const { cusp, stepover: given, spaced_by } = parameters;
  if (typeof cusp !== "number") return null;
  const byStep = spaced_by === "stepover" || spaced_by === "step";
  const stepover = byStep && typeof given === "number" ? given : stepoverOf(tool.corner_radius, cusp);
  const own = doc.faces ?? [];
  const over = (own.length ? own : reached)
    .flatMap((id) => faces[id - 1] ?? [])
    .filter((f) => own.length || !upright(f, up));
  if (stepover <= 0 || feed <= 0 || over.length === 0) return null;
  const area = over.reduce((sum, f) => sum + f.area, 0);
  const size = [0, 1, 2].map(
    (k) => Math.max(...over.map((f) => f.high[k])) - Math.min(...over.map((f) => f.low[k])),
  );
  // passes lie side by side over the narrower of the sides that are not up
  const across = Math.min(...size.filter((_, k) => Math.abs(up[k]) < 0.7));
  const length = area / stepover;
  return {
    stepover,
    passes: Math.max(1, Math.ceil(across / stepover)),
    minutes: length / feed,
    area,
    length,
  };
}
