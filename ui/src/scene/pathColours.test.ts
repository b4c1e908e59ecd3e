import { expect, test } from "vitest";
import type { Blob } from "../api/binary";
import { OPERATIONS, pathColours, rampColour } from "./pathColours";

const line = (z: number) => [0, 0, z, 1, 0, z];
const blob = {
  head: {},
  arrays: {
    pieces: new Float32Array([...line(5), ...line(0), ...line(-4)]),
    rapid: new Uint8Array([1, 0, 0]),
    feed: new Float32Array([9000, 300, 600]),
    power: new Float32Array([0, 1, 2]),
    step: new Int32Array([0, 0, 1]),
  },
} as unknown as Blob;
const at = (colours: Uint8Array, i: number) => [...colours.slice(3 * i, 3 * i + 3)];

test("rapids count for no scale and keep their own colour", () => {
  const feed = pathColours(blob, "feed");
  expect([feed.low, feed.high]).toEqual([0, 600]);
  expect(at(feed.colours, 0)).toEqual(at(pathColours(blob, "height").colours, 0));
  const height = pathColours(blob, "height");
  expect([height.low, height.high]).toEqual([-4, 0]);
  expect(at(height.colours, 2)).toEqual(rampColour(0).map(Math.floor));
  expect(at(height.colours, 1)).toEqual(rampColour(1).map(Math.floor));
});

test("operations have a colour each", () => {
  const { colours } = pathColours(blob, "operation");
  expect(at(colours, 1)).toEqual([
    (OPERATIONS[0] >> 16) & 255,
    (OPERATIONS[0] >> 8) & 255,
    OPERATIONS[0] & 255,
  ]);
  expect(at(colours, 2)).not.toEqual(at(colours, 1));
});

test("the scale grows darker and warmer without a step", () => {
  for (let k = 0; k < 100; k++) {
    const [a, b] = [rampColour(k / 100), rampColour((k + 1) / 100)];
    expect(Math.max(...a.map((v, i) => Math.abs(v - b[i])))).toBeLessThan(6);
  }
});
