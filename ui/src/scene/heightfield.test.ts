import { expect, test } from "vitest";
import { groundOf, HeightField, poseAt, type Motion } from "./heightfield";
import { deviationColour } from "./colours";

const motion: Motion = {
  pieces: new Float32Array([0, 5, 10, 0, 5, 4, 0, 5, 4, 20, 5, 4, 20, 5, 4, 20, 5, 10]),
  endsAt: new Float32Array([1, 3, 4]),
  tool: new Int32Array([1, 1, 1]),
};
const field = () =>
  new HeightField(
    0,
    0,
    0.5,
    41,
    21,
    0,
    new Float32Array(41 * 21).fill(8),
    motion,
    new Map([[1, { radius: 2, rise: new Float32Array(9) }]]),
  );

test("a slot is cut to its depth and width and nothing else", () => {
  const f = field();
  f.goTo(4);
  const at = (x: number, y: number) => f.heights[Math.round(y / 0.5) * 41 + Math.round(x / 0.5)];
  expect(at(10, 5)).toBe(4);
  expect(at(10, 6.5)).toBe(4);
  expect(at(10, 7.5)).toBe(8);
});

test("going back and forth gives the same heights as going straight there", () => {
  const once = field();
  once.goTo(2.2);
  const wandering = field();
  for (const t of [4, 0.5, 3.1, 0, 2.2]) wandering.goTo(t);
  expect([...wandering.heights]).toEqual([...once.heights]);
});

test("the tool is where the motion says", () => {
  expect(poseAt(motion, 2).tip).toEqual([10, 5, 4]);
  expect(poseAt(motion, 99).tip).toEqual([20, 5, 10]);
});

test("the deviation scale is slate in the band, ochre above, violet below", () => {
  const [r, g, b] = deviationColour(0.05);
  expect(Math.max(r, g, b) - Math.min(r, g, b)).toBeLessThan(0.08);
  const ochre = deviationColour(1);
  expect(ochre[0]).toBeGreaterThan(ochre[2]);
  const violet = deviationColour(-1);
  expect(violet[2]).toBeGreaterThan(violet[1]);
});

test("a stock that is no box begins at its own heights, a rim around it at the bottom", () => {
  // a ramp from z 0 at x 0 to z 4 at x 4 over a square, and its underside
  const shape = {
    vertices: [0, 0, 0, 4, 0, 4, 4, 4, 4, 0, 4, 0, 4, 0, 0, 4, 4, 0],
    triangles: [0, 1, 2, 0, 2, 3, 0, 5, 4, 0, 3, 5],
  };
  const ground = groundOf([0, 0, 0], [4, 4, 4], 1, shape);
  const nx = 7;
  for (let x = 0; x <= 4; x++) expect(ground[(2 + 1) * nx + x + 1]).toBeCloseTo(x);
  expect(ground[0]).toBe(0);
  const box = groundOf([0, 0, 0], [4, 4, 4], 1);
  expect(box[(2 + 1) * nx + 3]).toBe(4);
  expect(box[nx - 1]).toBe(0);
});
