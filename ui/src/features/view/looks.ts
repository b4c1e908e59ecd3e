import type { Vec3 } from "../../api/types";

export const CORNER: Vec3 = [1, -1.35, 0.95];

/** Directions to look from, by name. */
export const LOOKS: [string, Vec3][] = [
  ["Corner", CORNER],
  ["Above", [0, 0, 1]],
  ["Below", [0, 0, -1]],
  ["Front", [0, -1, 0.02]],
  ["Right", [1, 0, 0.02]],
];
