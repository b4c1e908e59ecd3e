import { expect, test } from "vitest";
import type { Machine } from "../api/types";
import { atRest, chainOf, jointsAt, toolAt } from "./chain";
import { NodeTree } from "./nodes";

test("joints lie between those at the ends of pieces", () => {
  const motion = {
    pieces: new Float32Array(12),
    endsAt: new Float32Array([2, 4]),
    tool: new Int32Array([1, 1]),
  };
  const joints = new Float32Array([0, 10, 90, -10]);
  expect(jointsAt(["E1", "J1"], joints, motion, 3)).toEqual({ E1: 45, J1: 0 });
  expect(jointsAt(["E1", "J1"], joints, motion, 9)).toEqual({ E1: 90, J1: -10 });
});

test("at the change of a tool the joints go to where it is changed and back", () => {
  const motion = {
    pieces: new Float32Array(12),
    endsAt: new Float32Array([2, 20]),
    tool: new Int32Array([1, 2]),
    changeAt: new Float32Array([2, 4, 5, 6, 7, 8, 10, 12]),
    changeJoints: new Float32Array([5, 100, 500, 500, 500, 500, 100, 6]),
  };
  const z = (time: number) => jointsAt(["Z"], new Float32Array([5, 7]), motion, time).Z;
  expect([z(2), z(3), z(4), z(6), z(6.5), z(8)]).toEqual([5, 52.5, 100, 500, 500, 500]);
  expect(z(11.99)).toBeCloseTo(6.5, 1);
  expect(z(12)).toBeGreaterThan(5); // the move after it
  // the tool of before hangs in the spindle until the machine stands where it is changed
  expect([1, 2, 5.9, 7.1, 12, 15].map((time) => toolAt(motion, time))).toEqual([1, 1, 1, 2, 2, 2]);
});

test("joints are put up each after the one that carries it, in whatever order they are given", () => {
  const joint = (name: string, parent: string | null) => ({ name, parent, kind: "linear", axis: [1, 0, 0] });
  const machine = {
    joints: [joint("c", "a"), joint("a", "y"), joint("y", null)],
    work: { joint: "c" },
    tool: { joint: null },
  } as unknown as Machine;
  const chain = chainOf(machine, [0, 0, 0]);
  expect(chain.joints.map((j) => j.name)).toEqual(["y", "a", "c"]);
  expect(() => new NodeTree().setChain(chain)).not.toThrow();
});

test("at rest the spindle is at its upper end, an arm at home, what carries the work in the middle", () => {
  const joints = [
    { name: "X", letter: "X", kind: "linear", low: -100, high: 100, parent: null },
    { name: "Z", letter: "Z", kind: "linear", low: 110, high: 560, parent: null },
    { name: "J", letter: "", kind: "rotary", low: 20, high: 90, parent: null },
  ];
  const machine = { joints, work: { joint: "X" }, tool: { joint: "Z" }, home: {} } as unknown as Machine;
  expect(atRest(machine)).toEqual({ X: 0, Z: 560, J: 20 });
  expect(atRest({ ...machine, home: { J: 45 } })).toEqual({ X: 0, Z: 560, J: 45 });
});
