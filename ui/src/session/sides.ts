import type { EdgeFacts, FaceFacts, Setup, SetupState, Side, Vec3 } from "../api/types";
import type { Hit } from "../scene/picking";

type Up = Side["up"];

const rounded = (point: Vec3) => point.map((v) => Math.round(v * 1e6) / 1e6) as Vec3;

/** A name that no side has yet. */
export function freeName(plain: string, taken: string[]): string {
  let name = plain;
  for (let n = 2; taken.includes(name); n++) name = `${plain}, ${n}`;
  return name;
}

/** What a side is given by, the rest open. */
export const towards = (way: Partial<Up>): Up => ({
  axis: null,
  face: null,
  edge: null,
  points: null,
  lean: null,
  rotary: null,
  reverse: false,
  ...way,
});

const side = (name: string, way: Partial<Up>, origin: Vec3 | null, taken: string[]): Side => ({
  name: freeName(name, taken),
  up: towards(way),
  turn_deg: 0,
  origin: origin && rounded(origin),
});

/** A side square to a picked face or along a picked bore, its zero where it was picked. */
export const sideOf = (face: Pick<FaceFacts, "id" | "kind">, point: Vec3, taken: string[]): Side =>
  side(`${face.kind === "plane" ? "Face" : "Bore"} ${face.id}`, { face: face.id }, point, taken);

/** A side by two angles or by the positions of rotary joints, as it begins. */
export const leaningSide = (taken: string[]) =>
  side("Leaning", { lean: { from_up_deg: 90, towards_deg: 0 } }, null, taken);
export const rotarySide = (letters: string[], taken: string[]) =>
  side("Rotary position", { rotary: Object.fromEntries(letters.map((l) => [l, 0])) }, null, taken);

/** The sides that picks give, each with the words of its button. */
export function sidesAt(
  picks: Hit[],
  faces: FaceFacts[],
  edges: Pick<EdgeFacts, "id" | "kind">[],
  taken: string[],
): { label: string; side: Side }[] {
  const last = picks[picks.length - 1];
  if (!last) return [];
  const out = [];
  const face = faces[last.face - 1];
  if (face && (face.normal || face.axis)) {
    out.push({ label: "Work from here", side: sideOf(face, last.point, taken) });
  }
  const edge = last.edge ? edges[last.edge - 1] : undefined;
  if (edge) {
    const how = edge.kind === "line" ? "along" : "square to";
    const made = side(`Edge ${edge.id}`, { edge: edge.id }, last.point, taken);
    out.push({ label: `Work ${how} edge ${edge.id}`, side: made });
  }
  if (picks.length === 3) {
    const points = picks.map((p) => rounded(p.point)) as [Vec3, Vec3, Vec3];
    const made = side("Three points", { points }, points[0], taken);
    out.push({ label: "Work square to these three points", side: made });
  }
  return out;
}

/** What a side was given by, in words. */
export function givenBy({ up }: Side, faces: Pick<FaceFacts, "kind">[]): string {
  if (up.face) {
    return faces[up.face - 1]?.kind === "plane" ? `towards face ${up.face}` : `along bore ${up.face}`;
  }
  if (up.edge) return `by edge ${up.edge}`;
  if (up.points) return "square to three points";
  if (up.lean) return "by two angles";
  if (up.rotary) return "by rotary positions";
  return `towards ${up.axis} of the part`;
}

/** Gives a side another name, in the operations that work from it too. */
export function renameSide(setup: Setup, from: string, to: string) {
  for (const side of setup.sides ?? []) if (side.name === from) side.name = to;
  for (const o of setup.operations) if (o.side === from) o.side = to;
}

/** Takes a side out: its operations work from above. */
export function removeSide(setup: Setup, name: string) {
  setup.sides = setup.sides?.filter((s) => s.name !== name);
  for (const o of setup.operations) if (o.side === name) o.side = null;
}

/** Where the rotary joints stand for a side, in words. */
export const standing = (joints: Record<string, number> | undefined) =>
  Object.entries(joints ?? {})
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([letter, angle]) => `${letter} ${angle.toFixed(3)}°`)
    .join(", ");

export const ABOVE = "From above";
/** What is made neither from above nor from a side. */
export const ELSEWHERE = "Not from this setup";

/** From where in a setup something is made whose tool comes along one of some directions of the part: from above,
 * from a side, by its name, or from elsewhere. */
export function madeFrom(ways: readonly (readonly number[])[], setup: SetupState | undefined): string {
  const rows = setup?.setup_from_part;
  if (!rows) return ELSEWHERE;
  const sides = (setup.sides ?? []).map((s) => ({ name: s.name, up: s.setup_from_side.map((r) => r[2]) }));
  for (const way of ways) {
    const seen = [0, 1, 2].map((i) => rows[i][0] * way[0] + rows[i][1] * way[1] + rows[i][2] * way[2]);
    for (const { name, up } of [{ name: ABOVE, up: [0, 0, 1] }, ...sides])
      if (seen[0] * up[0] + seen[1] * up[1] + seen[2] * up[2] > 1 - 1e-6) return name;
  }
  return ELSEWHERE;
}

/** Things in groups by the side from which they are made: from above first, what is made elsewhere last. */
export function bySide<T>(
  things: T[],
  ways: (thing: T) => readonly (readonly number[])[],
  setup: SetupState | undefined,
): { group: string; items: T[] }[] {
  const names = [ABOVE, ...(setup?.sides ?? []).map((s) => s.name), ELSEWHERE];
  const made = things.map((thing) => madeFrom(ways(thing), setup));
  return names
    .map((group) => ({ group, items: things.filter((_, i) => made[i] === group) }))
    .filter(({ items }) => items.length > 0);
}
