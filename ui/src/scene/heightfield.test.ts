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

test("what was cut ahead is what is cut when a moment is asked for", () => {
  const many: Motion = {
    pieces: new Float32Array(
      Array.from({ length: 60 }, (_, i) => [0, i / 3, 6, 20, i / 3, 6 - i / 30]).flat(),
    ),
    endsAt: new Float32Array(Array.from({ length: 60 }, (_, i) => i + 1)),
    tool: new Int32Array(60).fill(1),
  };
  const made = () =>
    new HeightField(0, 0, 0.5, 41, 41, 0, new Float32Array(41 * 41).fill(8), many,
      new Map([[1, { radius: 2, rise: new Float32Array(9) }]])); // prettier-ignore
  const ahead = made();
  while (ahead.cutAhead(0)) continue;
  const plain = made();
  for (const t of [60, 12.5, 40, 3]) {
    ahead.goTo(t);
    plain.goTo(t);
    expect([...ahead.heights]).toEqual([...plain.heights]);
  }
});

test("a moment that is far away is reached in several turns, each within its time", () => {
  const pieces = 400;
  const long: Motion = {
    pieces: new Float32Array(Array.from({ length: pieces }, (_, i) => [0, i / 40, 6, 20, i / 40, 6]).flat()),
    endsAt: new Float32Array(Array.from({ length: pieces }, (_, i) => i + 1)),
    tool: new Int32Array(pieces).fill(1),
  };
  const f = new HeightField(0, 0, 0.1, 201, 101, 0, new Float32Array(201 * 101).fill(8), long,
    new Map([[1, { radius: 2, rise: new Float32Array(9) }]])); // prettier-ignore
  let turns = 0;
  do {
    f.goTo(pieces, 0);
    turns++;
  } while (f.behind && turns < 1000);
  expect(f.behind).toBe(false);
  expect(turns).toBeGreaterThan(1);
  expect(f.heights[50 * 201 + 100]).toBe(6);
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
