import type { Blob } from "../../api/binary";
import type { ProofFacts } from "../../api/types";
import type { StopKind } from "../../session/stopKinds";

export const STOPS: { kind: StopKind; label: string }[] = [
  { kind: "collision", label: "a collision" },
  { kind: "near_miss", label: "a near miss" },
  { kind: "travel", label: "an overtravel" },
  { kind: "tool", label: "a tool change" },
  { kind: "operation", label: "the end of an operation" },
];
const COLLISIONS = ["collision", "fixture", "holder", "spindle_nose", "shank", "rapid"];
const NEAR = ["near_miss", "near"];
const SAME_S = 1e-4;

/** The moments s, in order, at which a replay of a program can stop for some reasons. */
export function momentsOf(facts: ProofFacts, motion: Blob | undefined, kinds: readonly StopKind[]): number[] {
  const found = (list: string[]) =>
    facts.findings.filter((f) => f.move >= 0 && list.includes(f.kind)).map((f) => f.time_s);
  const out: number[] = [];
  if (kinds.includes("collision")) out.push(...found(COLLISIONS));
  if (kinds.includes("near_miss")) out.push(...found(NEAR));
  if (kinds.includes("travel")) out.push(...found(["travel"]));
  if (kinds.includes("operation")) out.push(...facts.program.map((r) => r.end_s));
  if (kinds.includes("tool") && motion) {
    const { tool, ends_at: ends } = motion.arrays;
    for (let i = 1; i < ends.length; i++) if (tool[i] !== tool[i - 1]) out.push(ends[i - 1]);
  }
  return out.sort((a, b) => a - b);
}

/** The first stop on the way from one moment to another, either way; null where there is none. */
export function stopBetween(moments: readonly number[], from: number, to: number): number | null {
  const [low, high] = from < to ? [from + SAME_S, to] : [to, from - SAME_S];
  const met = moments.filter((t) => t >= low && t <= high);
  return met.length ? (from < to ? met[0] : met[met.length - 1]) : null;
}
