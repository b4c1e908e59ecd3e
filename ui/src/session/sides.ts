import type { FaceFacts, Setup, Side, Vec3 } from "../api/types";

/** The name of a new side, after what was picked. */
export function sideName(face: Pick<FaceFacts, "id" | "kind">, taken: string[]): string {
  const plain = `${face.kind === "plane" ? "Face" : "Bore"} ${face.id}`;
  let name = plain;
  for (let n = 2; taken.includes(name); n++) name = `${plain}, ${n}`;
  return name;
}

/** A side square to a picked face or along a picked bore, its zero where it was picked. */
export function sideOf(face: Pick<FaceFacts, "id" | "kind">, point: Vec3, taken: string[]): Side {
  const origin = point.map((v) => Math.round(v * 1e6) / 1e6) as Vec3;
  return {
    name: sideName(face, taken),
    up: { axis: null, face: face.id, reverse: false },
    turn_deg: 0,
    origin,
  };
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
