import { expect, test } from "vitest";
import type { Blob } from "../../api/binary";
import type { Machine } from "../../api/types";
import { apartTrace, indexMoves, jointTraces } from "./strip";

test("index moves are those at rapid on which a rotary joint turns, joined where they follow each other", () => {
  // X and A at the end of five pieces: turns, turns on, cuts, turns while it cuts, turns
  const joints = new Float32Array([0, 0, 0, 10, 0, 30, 5, 30, 9, 40, 9, 0]);
  const arrays = {
    joints,
    ends_at: new Float32Array([1, 2, 3, 4, 5, 6]),
    rapid: new Uint8Array([1, 1, 1, 0, 0, 1]),
  };
  const motion = { head: {}, arrays } as unknown as Blob;
  expect(indexMoves(motion, [1])).toEqual([
    [1, 3],
    [5, 6],
  ]);
  expect(indexMoves({ head: {}, arrays: { ends_at: arrays.ends_at } } as unknown as Blob, [1])).toEqual([]);
});

test("joints are traced as they stand, within their travel or what they use of it", () => {
  const joint = (name: string, kind: string, low: number | null, high: number | null, parent: string | null) => ({
    name, letter: name, kind, axis: [0, 0, 1], parent, low, high,
  }); // prettier-ignore
  const machine = {
    joints: [joint("C", "rotary", null, null, null), joint("Z", "linear", 100, 500, null)],
    work: { joint: "C" },
    tool: { joint: "Z" },
  } as unknown as Machine;
  const motion = {
    head: {},
    arrays: { joints: new Float32Array([0, 300, 90, 300, 90, 150]), ends_at: new Float32Array([1, 3, 4]) },
  };
  const [c, z] = jointTraces(motion, machine, 4);
  expect([c.name, c.low, c.high]).toEqual(["C", 0, 90]);
  expect([z.name, z.low, z.high]).toEqual(["Z", 100, 500]);
  expect(c.values[0]).toBe(0);
  expect(c.values[c.values.length - 1]).toBe(90);
  expect([z.values[500], z.values[899]]).toEqual([300, 150]);
});

test("how far bodies are apart is joined between the moments at which it was looked", () => {
  const arrays = { apart_at: new Float32Array([10, 50, 90]), apart: new Float32Array([40, 4, 100]) };
  const [trace] = apartTrace({ head: {}, arrays } as unknown as Blob, 100);
  expect([trace.low, trace.high]).toEqual([0, 100]);
  expect(trace.values[449]).toBeCloseTo(4, 0); // at half of the time
  expect(trace.values[270]).toBeCloseTo(22, 0); // half way down
  expect(trace.values[0]).toBeNaN();
  expect(apartTrace({ head: {}, arrays: {} } as unknown as Blob, 100)).toEqual([]);
});
