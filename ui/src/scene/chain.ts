import type { Machine, Vec3 } from "../api/types";
import { poseAt, type Motion } from "./heightfield";
import { frameOf, type Chain } from "./nodes";

/**
 * A motion with the values of all joints at the end of every piece, where it has them; `change` are begin and end of
 * every change of the tool, s, `change_joints` the values on the way there and on, so many rows a change.
 */
export type CellMotion = Motion & {
  joints?: Float32Array;
  change?: Float32Array;
  change_joints?: Float32Array;
};

/** When, as a share of the time of a change of the tool, the machine is at each row of its way. */
const CHANGING = [0, 0.15, 0.35, 0.45, 0.65, 0.85, 1];

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
  const changing = changeAt(names, motion, time);
  if (changing) return changing;
  const { piece, share } = poseAt(motion, time);
  const k = names.length;
  const [before, after] = [Math.max(0, piece - 1) * k, piece * k];
  const values: Record<string, number> = {};
  names.forEach((name, j) => {
    values[name] = joints[before + j] + (joints[after + j] - joints[before + j]) * share;
  });
  return values;
}

/** Values of the joints on the way to where the tool is changed, or on from there; null at other times. */
function changeAt(names: string[], { change, change_joints: ways }: CellMotion, time: number) {
  if (!change || !ways) return null;
  for (let i = 0; 2 * i < change.length; i++) {
    const [begin, end] = [change[2 * i], change[2 * i + 1]];
    if (time < begin) return null;
    if (time >= end) continue;
    const share = (time - begin) / (end - begin);
    const leg = CHANGING.findIndex((s) => s > share) - 1;
    const part = (share - CHANGING[leg]) / (CHANGING[leg + 1] - CHANGING[leg]);
    const row = (i * CHANGING.length + leg) * names.length;
    return Object.fromEntries(
      names.map((name, j) => {
        const [from, to] = [ways[row + j], ways[row + names.length + j]];
        return [name, from + (to - from) * part];
      }),
    );
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
