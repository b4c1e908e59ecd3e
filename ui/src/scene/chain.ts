import type { Blob } from "../api/binary";
import type { Machine, Vec3 } from "../api/types";
import { poseAt, type Motion } from "./heightfield";
import { frameOf, type Chain } from "./nodes";

/**
 * A motion with the values of all joints at the end of every piece, where it has them, and at the rows of the machine's
 * way to every change of the tool and on, with their times, s.
 */
export type CellMotion = Motion & {
  joints?: Float32Array;
  changeAt?: Float32Array;
  changeJoints?: Float32Array;
};

/** The rows of the way of a change; from the fifth on the new tool is in the spindle. */
const ROWS = 8;
const NEW_TOOL = 4;

/** The motion of a proof from its arrays. */
export function motionOf(arrays: Blob["arrays"]): CellMotion {
  return {
    pieces: arrays.pieces as Float32Array,
    endsAt: arrays.ends_at as Float32Array,
    tool: arrays.tool as Int32Array,
    joints: arrays.joints as Float32Array | undefined,
    changeAt: arrays.change_at as Float32Array | undefined,
    changeJoints: arrays.change_joints as Float32Array | undefined,
  };
}

/** The joints of the chain from work to tool in the order of the arrays of a motion. */
export function inChain(machine: Machine): string[] {
  const parent = new Map(machine.joints.map((j) => [j.name, j.parent ?? null]));
  const way = (from: string | null) => {
    const out: string[] = [];
    for (let at = from; at !== null; at = parent.get(at) ?? null) out.push(at);
    return out;
  };
  return [...way(machine.work.joint ?? null), ...way(machine.tool.joint ?? null).reverse()];
}

/** The joints that carry the work. */
export function carryingWork(machine: Machine): Set<string> {
  const parent = new Map(machine.joints.map((j) => [j.name, j.parent ?? null]));
  const out = new Set<string>();
  for (let at = machine.work.joint ?? null; at !== null; at = parent.get(at) ?? null) out.add(at);
  return out;
}

/** A machine's chain with the work's frame that of the setup, which lies `at` over the table. */
export function chainOf(machine: Machine, at: Vec3): Chain {
  const work = frameOf(machine.work as Parameters<typeof frameOf>[0]);
  work.multiply(frameOf({ at }));
  const tool = frameOf(machine.tool as Parameters<typeof frameOf>[0]);
  return {
    joints: parentsFirst(machine).map((j) => ({
      name: j.name,
      kind: j.kind,
      axis: j.axis as Vec3,
      point: (j.point ?? [0, 0, 0]) as Vec3,
      parent: j.parent ?? null,
    })),
    work: { joint: machine.work.joint ?? null, frame: work },
    tool: { joint: machine.tool.joint ?? null, frame: tool },
  };
}

/** The joints of a machine, each after the one that carries it. */
function parentsFirst(machine: Machine): Machine["joints"] {
  const [out, left] = [[] as Machine["joints"], [...machine.joints]];
  while (left.length) {
    const next = left.findIndex((j) => !j.parent || out.some((o) => o.name === j.parent));
    if (next < 0) break; // what hangs on nothing is not drawn
    out.push(...left.splice(next, 1));
  }
  return out;
}

/** Values of the joints by name at a time, from those at the end of every piece of a motion. */
export function jointsAt(names: string[], joints: Float32Array, motion: CellMotion, time: number) {
  const row = changing(motion, time);
  if (row && motion.changeJoints) return between(names, motion.changeJoints, row.at, row.at + 1, row.share);
  const { piece, share } = poseAt(motion, time);
  return between(names, joints, Math.max(0, piece - 1), piece, share);
}

/** The tool in the spindle at a time: until it is changed the one before. */
export function toolAt(motion: CellMotion, time: number): number {
  const { piece, tool } = poseAt(motion, time);
  const row = changing(motion, time);
  return row && row.at % ROWS < NEW_TOOL && piece > 0 ? motion.tool[piece - 1] : tool;
}

/** Values of the joints by name, a share of the way from one row of an array to another. */
function between(names: string[], rows: Float32Array, from: number, to: number, share: number) {
  const k = names.length;
  return Object.fromEntries(
    names.map((name, j) => [name, rows[from * k + j] + (rows[to * k + j] - rows[from * k + j]) * share]),
  );
}

/** The row of the way of a change of the tool that was passed last, and the share to the next; null at other times. */
function changing({ changeAt: at }: CellMotion, time: number) {
  for (let first = 0; at && first < at.length && time >= at[first]; first += ROWS) {
    if (time >= at[first + ROWS - 1]) continue;
    let row = first;
    while (time >= at[row + 1]) row += 1;
    return { at: row, share: (time - at[row]) / (at[row + 1] - at[row]) };
  }
  return null;
}

/** Where the joints of a machine stand at rest: an arm at home, else the spindle at its upper end, the work in the
 * middle. */
export function atRest(machine: Machine): Record<string, number> {
  const carrying = carryingWork(machine);
  return Object.fromEntries(
    machine.joints.map(({ name, letter, low, high }) => {
      const up = letter === "Z" && !carrying.has(name) ? high : 0;
      const at = machine.home?.[name] ?? up ?? 0;
      return [name, Math.min(Math.max(at, low ?? -Infinity), high ?? Infinity)];
    }),
  );
}

/** The places of the rotary joints among those of the chain. */
export const rotaryIn = (machine: Machine): number[] =>
  inChain(machine).flatMap((name, i) =>
    machine.joints.find((j) => j.name === name)?.kind === "rotary" ? [i] : [],
  );

/** Where the rotary joints stand among the values of all, in words. */
export function turned(machine: Machine, values: Record<string, number>): string {
  return inChain(machine)
    .map((name) => machine.joints.find((j) => j.name === name)!)
    .filter((j) => j.kind === "rotary")
    .sort((a, b) => (a.letter || a.name).localeCompare(b.letter || b.name))
    .map((j) => `${j.letter || j.name} ${(values[j.name] ?? 0).toFixed(1).replace(/^-0\.0$/, "0.0")}°`)
    .join("  ");
}
