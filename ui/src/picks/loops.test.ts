import { expect, test } from "vitest";
import type { EdgeFacts, Vec3 } from "../api/types";
import { loopOf } from "./loops";

const edge = (id: number, faces: number[], start: Vec3, end: Vec3): EdgeFacts => ({
  id,
  kind: start === end ? "circle" : "line",
  length: 1,
  centre: null,
  axis: null,
  radius: null,
  faces,
  start,
  end,
});

test("a loop goes round a face from end to end, whichever way its edges are given", () => {
  const round: Vec3 = [5, 5, 1];
  const edges = [
    edge(1, [1, 2], [0, 0, 1], [10, 0, 1]),
    edge(2, [1, 3], [10, 10, 1], [10, 0, 1]), // the other way about
    edge(3, [1, 4], [10, 10, 1], [0, 10, 1]),
    edge(4, [1, 5], [0, 10, 1], [0, 0, 1]),
    edge(5, [2, 3], [10, 0, 0], [10, 0, 1]), // upright, of other faces
    edge(6, [1, 7], round, round), // the mouth of a bore in the same face
  ];
  expect(loopOf(edges[0], 1, edges)).toEqual([1, 2, 3, 4]);
  expect(loopOf(edges[2], 1, edges)).toEqual([3, 4, 1, 2]);
  expect(loopOf(edges[5], 1, edges)).toEqual([6]);
  expect(loopOf(edges[4], 2, edges).slice(0, 2)).toEqual([5, 1]); // face 2 is not known all round
});
