import { expect, test } from "vitest";
import type { Blob } from "../../api/binary";
import { indexMoves } from "./strip";

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
