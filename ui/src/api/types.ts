/** Shapes of the job document and of what the server derives from it. Lengths mm. */

import type { components } from "./schema";

type S = components["schemas"];

export type Vec3 = [number, number, number];

export type HolderSegment = S["HolderSegment"];

export type Tool = S["Assembly"];

export interface Height {
  over: "stock_top" | "stock_bottom" | "part_top" | "part_bottom" | "zero";
  offset: number;
}

export interface Boundary {
  faces: number[] | null;
  stock: boolean;
  polygon: [number, number][] | null;
  area?: string | null;
  offset: number;
}

/** A round hole by a face of its wall, or by its place in program coordinates. */
export interface HolePick {
  face: number | null;
  at?: [number, number] | null;
  top?: number;
  diameter?: number | null;
  depth?: number | null;
  through?: boolean;
}

/** A wall, or a floor or top that stands for the walls it meets; an edge for the wall along it; or all that bounds the part. */
export interface WallPick {
  face: number | null;
  edge?: number | null;
  outline: boolean;
}

/** A line to engrave: an edge, the border of a face, points, or a text with its foot `at` a place; program coordinates, mm. */
export interface LinePick {
  edge?: number | null;
  face?: number | null;
  points?: [number, number][] | null;
  closed?: boolean;
  text?: string | null;
  at?: [number, number] | null;
  height?: number;
  angle_deg?: number;
  align?: "left" | "middle" | "right";
}

/** Holes that are alike; `faces` are the walls of each, `uses` the likeliest first. */
export type HoleGroup = S["HoleGroup"];

/** Pockets, slots, bosses, tops, broken edges that are made alike; `faces` are those of each. */
export type FeatureGroup = S["FeatureGroup"];

export interface Operation {
  name: string;
  strategy: string;
  tool: number;
  /** The side from which it works; open: the setup's own. */
  side?: string | null;
  enabled: boolean;
  spindle_rpm: number | null;
  spindle: "clockwise" | "counter_clockwise";
  feed_mm_min: number | null;
  entry_feed_mm_min: number | null;
  coolant: "off" | "flood" | "mist";
  boldness?: number;
  feed_follows?: "plan" | "engagement";
  when_short?: "trim" | "raise" | "leave";
  tolerance_mm: number;
  heights: { clearance: Height; retract: Height; feed: number; bottom: Height };
  keep_in: Boundary[];
  keep_out: Boundary[];
  holes?: HolePick[];
  walls?: WallPick[];
  lines?: LinePick[];
  parameters: Record<string, unknown>;
  notes: string;
}

export interface Stock {
  kind: "box" | "solid" | "carried";
  /** Of a carried one: the earlier setup that leaves it. */
  setup?: string;
  allowance?: Record<string, number>;
  file?: string;
  solid?: number | null;
  scale?: number;
}

export interface PartArray {
  columns: number;
  rows: number;
  gap_x: number;
  gap_y: number;
}

/** What holds the stock: jaws beside it, a block between two corners, a solid from a file; program coordinates, mm. */
export interface FixturePart {
  kind: "jaws" | "block" | "solid";
  name: string;
  along?: "x" | "y";
  grip?: number;
  length?: number;
  thickness?: number;
  height?: number;
  low?: Vec3;
  high?: Vec3;
  file?: string;
  at?: Vec3;
  turn_deg?: number;
}

/** A direction from which a clamped part is worked besides the setup's own. */
export interface Side {
  name: string;
  up: { axis: string | null; face: number | null; reverse: boolean };
  turn_deg?: number;
  /** Its zero, a point of the part; open: the program zero. */
  origin?: Vec3 | null;
}

export interface Setup {
  name: string;
  up: { axis: string | null; face: number | null; reverse: boolean };
  turn_deg: number;
  machine: string;
  material: string;
  stock: Stock;
  array?: PartArray | null;
  zero: { of: "stock" | "part" | "point"; x: string; y: string; z: string; point: Vec3 | null };
  work_offset: string;
  placement: { x: number; y: number; z: number };
  operations: Operation[];
  sides?: Side[];
  areas?: Area[];
  repeats?: Repeat[];
  fixture?: FixturePart[];
}

/** An area that is named once and used by many operations. */
export interface Area {
  name: string;
  of: Boundary[];
}

export type How =
  | { kind: "polar"; centre: [number, number]; count: number; step_deg: number | null }
  | { kind: "linear"; count: number; step: [number, number] }
  | { kind: "grid"; columns: number; rows: number; step_x: number; step_y: number; angle_deg: number }
  | { kind: "listed"; at: Vec3[] }
  | { kind: "mirror"; point: [number, number]; angle_deg: number };

/** Operations that are made again at further places. */
export interface Repeat {
  name: string;
  operations: string[];
  how: How;
  leave_out: number[];
}

export interface Release {
  name: string;
  setup: string;
  /** Further setups that run in the same program. */
  also?: string[];
  order?: "planned" | "fewest_changes";
  split?: "none" | "tool";
  operations: string[] | null;
  dialect: string;
  program_number: number;
  comment: string;
  options?: PostOptions;
  notes?: string;
}

/** What a release asks for in its text; what is open is as the dialect says. */
export interface PostOptions {
  line_numbers?: "all" | "tool" | "none" | null;
  line_number_start?: number | null;
  line_number_step?: number | null;
  word_spacing?: boolean | null;
  comments?: "all" | "tools" | "none" | null;
  arcs?: "centre" | "radius" | null;
  circles?: "whole" | "halves" | null;
  holes?: "canned" | "moves" | null;
  optional_stop?: boolean | null;
  preload?: boolean | null;
  restart?: boolean | null;
  rapid_feed_mm_min?: number | null;
  coolant?: "planned" | "off";
  between?: "clearance" | "home";
  wear_mm?: number;
}

/** A release that was kept. */
export type Kept = S["Kept"];

/** A line of a comparison with its numbers in both programs. */
export type LineChange = S["LineChange"];

export interface JobDocument {
  fenrik: number;
  name: string;
  units: "mm" | "inch";
  part: { file: string; solid: number | null; scale: number; heal: boolean } | null;
  tools: Tool[];
  setups: Setup[];
  /** The shop's own, which go before those that ship with Fenrik. */
  machines?: Machine[];
  proof: { cell_mm: number | null; tolerance_mm: number };
  releases: Release[];
  /** The job's own, which go before those that ship with Fenrik. */
  recipes?: HoleRecipeDoc[];
  part_recipes?: PartRecipeDoc[];
  notes: string;
}

/** A step of a recipe; for holes with `size` and `under`, for features with `when`, `works_on`, `full_flutes` and `rest_of_walls`. */
export interface RecipeStepDoc {
  name: string;
  strategy: string;
  tool: string;
  parameters: Record<string, unknown>;
  size?: string;
  under?: number;
  when?: string | null;
  works_on?: string;
  full_flutes?: boolean;
  rest_of_walls?: boolean;
}

export interface HoleRecipeDoc {
  name: string;
  purposes: string[];
  shapes: string[] | null;
  deeper_than: number;
  no_deeper_than: number;
  steps: RecipeStepDoc[];
}

export interface PartRecipeDoc {
  name: string;
  kinds: string[];
  steps: RecipeStepDoc[];
}

export type Derived = S["Derived"];

export type Fault = S["Fault"];

/** A change to an operation that failed with which it would work. */
export type Offered = S["Offered"];

export type OperationState = S["OperationState"];

/** An operation with nothing left open, and where the proposed numbers come from. */
export type OperationValues = S["OperationValues"];

export type SetupState = S["SetupState"];

/** What of a release runs in one of its setups. */
export type ReleaseState = S["ReleaseState"];

export type PartState = S["PartState"];

export type JobState = S["JobState"];

export type FaceFacts = S["Face"];

export type EdgeFacts = S["Edge"];

export type Finding = S["FindingRow"];

export type ProofFacts = S["ProofFacts"];

export interface ParameterSchema {
  title?: string;
  description?: string;
  default?: unknown;
  enum?: string[];
  type?: string;
  anyOf?: { type: string; exclusiveMinimum?: number; minimum?: number; maximum?: number }[];
  group?: "decide" | "rest";
  unit?: string;
  reason?: string;
  shown_when?: Record<string, unknown>;
}

export type StrategyInfo = Omit<S["StrategyInfo"], "parameters"> & {
  parameters: { properties: Record<string, ParameterSchema> };
};

export type Machine = S["Machine"];

export type Library = Omit<S["Library"], "strategies" | "recipes" | "part_recipes" | "recipe_choices"> & {
  strategies: StrategyInfo[];
  recipes: HoleRecipeDoc[];
  part_recipes: PartRecipeDoc[];
  /** What a recipe's fields may hold, by field; `part_tool` is `tool` of a recipe for features. */
  recipe_choices: Record<
    "purposes" | "shapes" | "kinds" | "when" | "tool" | "size" | "part_tool" | "works_on",
    string[]
  >;
};
