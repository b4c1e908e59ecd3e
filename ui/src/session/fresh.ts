import type { Height, HolePick, LinePick, Operation, Release, Stock } from "../api/types";

/** New pieces of a document, whole, with the defaults that the server would fill in. */

const over = (reference: Height["over"], offset: number): Height => ({ over: reference, offset });

export function freshOperation(name: string, strategy: string, tool: number): Operation {
  return {
    name,
    strategy,
    tool,
    enabled: true,
    spindle: "clockwise",
    coolant: "flood",
    boldness: 0.5,
    feed_follows: "plan",
    when_short: "trim",
    tolerance_mm: 0.01,
    heights: {
      clearance: over("stock_top", 10),
      retract: over("stock_top", 2),
      feed: 1,
      bottom: over("part_bottom", 0),
    },
    arm: { search: "spin", table_deg: 0, spin_deg: 0 },
    keep_in: [],
    keep_out: [],
    faces: [],
    holes: [],
    walls: [],
    lines: [],
    parameters: {},
    unconfirmed: "",
    notes: "",
  };
}

export const holeAt = (face: number): HolePick => ({ face, top: 0, through: false });

export const lineOf = (what: Partial<LinePick>): LinePick => ({
  closed: false,
  height: 4,
  angle_deg: 0,
  align: "left",
  ...what,
});

export const boxStock = (): Stock => ({
  kind: "box",
  allowance: { x_low: 2, x_high: 2, y_low: 2, y_high: 2, z_low: 0, z_high: 1 },
});

/** A cylinder as wide as a part of a size (X, Y, Z, mm). */
export const roundStock = (size: readonly number[]): Stock => ({
  kind: "round",
  diameter: Math.ceil(Math.max(size[0], size[1]) - 1e-6),
  bore: 0,
  z_low: 0,
  z_high: 1,
  centre: null,
});

export const solidStock = (file: string): Stock => ({ kind: "solid", file, solid: null, scale: 1 });

export function freshRelease(name: string, setup: string, dialect: string, number: number): Release {
  return {
    name,
    setup,
    also: [],
    operations: null,
    order: "planned",
    split: "none",
    file: null,
    dialect,
    program_number: number,
    comment: "",
    options: {
      line_numbers: null,
      line_number_start: null,
      line_number_step: null,
      word_spacing: null,
      comments: null,
      arcs: null,
      circles: null,
      holes: null,
      optional_stop: null,
      preload: null,
      restart: null,
      rapid_feed_mm_min: null,
      coolant: "planned",
      between: "clearance",
      wear_mm: 0.05,
    },
    notes: "",
  };
}

/** The name if none of the known is called so, else with the first number that is free. */
export function freeName(name: string, known: string[]): string {
  let n = 1;
  while (known.includes(n > 1 ? `${name} ${n}` : name)) n++;
  return n > 1 ? `${name} ${n}` : name;
}
