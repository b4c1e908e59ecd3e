import { expect, test } from "vitest";
import type { ProofFacts } from "../../api/types";
import { momentsOf, stopBetween } from "./stops";

const FACTS = {
  findings: [
    { kind: "collision", move: 4, time_s: 12 },
    { kind: "near_miss", move: 9, time_s: 20 },
    { kind: "travel", move: 11, time_s: 25 },
    { kind: "left", move: -1, time_s: 0 },
  ],
  program: [
    { begin_s: 0, end_s: 15 },
    { begin_s: 15, end_s: 30 },
  ],
} as unknown as ProofFacts;
const MOTION = {
  head: {},
  arrays: { tool: new Int32Array([3, 3, 5]), ends_at: new Float32Array([6, 14, 30]) },
};

test("the moments are those of what was switched on, in their order", () => {
  expect(momentsOf(FACTS, undefined, [])).toEqual([]);
  expect(momentsOf(FACTS, undefined, ["travel", "collision"])).toEqual([12, 25]);
  expect(momentsOf(FACTS, MOTION, ["operation", "tool", "near_miss"])).toEqual([14, 15, 20, 30]);
});

test("a replay stops at the first moment on its way, either way, and goes on from there", () => {
  const moments = [12, 20, 25];
  expect(stopBetween(moments, 10, 11)).toBeNull();
  expect(stopBetween(moments, 10, 22)).toBe(12);
  expect(stopBetween(moments, 12, 22)).toBe(20);
  expect(stopBetween(moments, 30, 5)).toBe(25);
  expect(stopBetween(moments, 25, 5)).toBe(20);
});
