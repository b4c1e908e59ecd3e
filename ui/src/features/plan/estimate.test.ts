import { expect, test } from "vitest";
import type { FaceFacts } from "../../api/types";
import { estimated, stepoverOf } from "./estimate";

const plane = (id: number, normal: number[], high: number[]) =>
  ({ id, kind: "plane", area: high[0] * high[1], low: [0, 0, 0], high, normal }) as unknown as FaceFacts;
const ball = { kind: "ball" as const, diameter: 10, corner_radius: 5 };

test("the stepover of a cusp is that of two circles beside one another", () => {
  // a ball of R 5 and a cusp of 0.1: half the chord at 4.9 from the middle is √(25 − 4.9²)
  expect(stepoverOf(5, 0.1)).toBeCloseTo(2 * Math.sqrt(25 - 4.9 * 4.9), 9);
});

test("a plate of 100 x 40 takes its area over the stepover at the feed", () => {
  const faces = [plane(1, [0, 0, 1], [100, 40, 0]), plane(2, [1, 0, 0], [0, 40, 20])];
  const found = estimated({ faces: [] }, { cusp: 0.1 }, ball, 1000, faces, [1, 2], [0, 0, 1])!;
  const step = stepoverOf(5, 0.1);
  expect(found.area).toBe(4000); // walls are not passed over
  expect(found.minutes).toBeCloseTo(4000 / step / 1000, 9);
  expect(found.passes).toBe(Math.ceil(40 / step));
});

test("a stepover that is given counts, and faces that are chosen", () => {
  const faces = [plane(1, [0, 0, 1], [100, 40, 0]), plane(2, [0, 0, 1], [10, 10, 5])];
  const found = estimated(
    { faces: [2] },
    { cusp: 0.1, stepover: 2, spaced_by: "stepover" },
    ball,
    500,
    faces,
    [1, 2],
    [0, 0, 1],
  )!;
  expect(found).toMatchObject({ stepover: 2, passes: 5, area: 100 });
  expect(estimated({ faces: [] }, {}, ball, 500, faces, [1], [0, 0, 1])).toBeNull();
});
