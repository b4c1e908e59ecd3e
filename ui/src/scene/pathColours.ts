import type { Blob } from "../api/binary";
import { KINDS } from "./colours";

/** What the colour of a path tells. */
export type PathColour = "kind" | "operation" | "feed" | "height" | "load";

/** From the least to the most, told apart by lightness as well as by hue. */
const RAMP = [
  [38, 58, 110],
  [40, 122, 134],
  [196, 156, 62],
  [166, 66, 20],
];
/** Of operations one after the other; they come again after these. */
export const OPERATIONS = [0x1b5e83, 0xa8500f, 0x6d7f2a, 0x8c2f62, 0x3b7d8c, 0x7a6a2f, 0x4b4f8f, 0x2f6f4f];
const RAPID = KINDS[0];

const hex = (c: number): [number, number, number] => [(c >> 16) & 255, (c >> 8) & 255, c & 255];

/** The colour (0..255) of a share 0..1 of a scale. */
export function rampColour(share: number): [number, number, number] {
  const at = Math.min(Math.max(share, 0), 1) * (RAMP.length - 1);
  const i = Math.min(Math.floor(at), RAMP.length - 2);
  return [0, 1, 2].map((k) => RAMP[i][k] + (RAMP[i + 1][k] - RAMP[i][k]) * (at - i)) as [
    number,
    number,
    number,
  ];
}

export interface Coloured {
  /** Red, green, blue 0..255 of every piece. */
  colours: Uint8Array;
  rapid: Uint8Array;
  /** The ends of the scale, where what is shown has one. */
  low: number;
  high: number;
}

/** The colour of every piece of a path or of a posted motion. */
export function pathColours(blob: Blob, by: PathColour): Coloured {
  const { kind, rapid: given, feed, pieces, power, step } = blob.arrays;
  const count = pieces.length / 6;
  const rapid = new Uint8Array(count);
  for (let i = 0; i < count; i++) rapid[i] = given ? Number(given[i]) : Number(kind[i]) === 0 ? 1 : 0;
  const value = (i: number) =>
    by === "height" ? Number(pieces[6 * i + 5]) : Number((by === "load" ? power : feed)?.[i] ?? 0);
  const scaled = by === "height" || by === "feed" || by === "load";
  let low = Infinity;
  let high = -Infinity;
  if (scaled)
    for (let i = 0; i < count; i++) {
      if (rapid[i]) continue;
      low = Math.min(low, value(i));
      high = Math.max(high, value(i));
    }
  if (by !== "height") low = Math.min(low, 0);
  const colours = new Uint8Array(3 * count);
  for (let i = 0; i < count; i++) {
    let colour: [number, number, number];
    if (rapid[i]) colour = hex(RAPID);
    else if (scaled) colour = rampColour((value(i) - low) / Math.max(high - low, 1e-9));
    else if (by === "operation") colour = hex(OPERATIONS[Number(step?.[i] ?? 0) % OPERATIONS.length]);
    else colour = hex(KINDS[kind ? Number(kind[i]) : 1] ?? KINDS[1]);
    colours.set(colour, 3 * i);
  }
  return { colours, rapid, low, high };
}
