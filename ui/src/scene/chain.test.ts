import { expect, test } from "vitest";
import { jointsAt } from "./chain";

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
