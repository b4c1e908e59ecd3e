/** Shapes of the job document and of what the server derives from it. Lengths mm. */

export type Vec3 = [number, number, number];

export interface HolderSegment {
  length: number;
  diameter_low: number;
  diameter_high: number;
}

export interface Tool {
  number: number;
  name: string;
  kind:
    | "flat"
    | "ball"
    | "corner"
    | "taper"
    | "taper_ball"
    | "chamfer"
    | "drill"
    | "reamer"
    | "boring"
    | "tap"
    | "thread_mill"
    | "lollipop"
    | "t_slot";
  diameter: number;
  corner_radius: number;
  taper_deg: number;
  point_deg: number;
  tip_diameter: number;
  thread_pitch: number | null;
  thread_hand: "right" | "left";
  thread_rows: number;
  flute_length: number;
  teeth: number;
  shank_diameter: number;
  stick_out: number;
  cutter_material: "carbide" | "hss";
  coating: "uncoated" | "nitride" | "carbon";
  rpm_max: number | null;
  feed_per_tooth_max: number | null;
  holder: HolderSegment[];
}

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
export interface HoleGroup {
  words: string;
  diameter: number;
  count: number;
  faces: number[][];
  mouths: Vec3[];
  axis: Vec3;
  uses: { purpose: string; name: string; words: string; table: string }[];
}

/** Pockets, slots, bosses, tops, broken edges that are made alike; `faces` are those of each. */
export interface FeatureGroup {
  kind: string;
  words: string;
  count: number;
  axis: Vec3;
  faces: number[][];
}

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
export interface Kept {
  number: number;
  name: string;
  revision: number;
  notes: string;
  at: string;
  file: string;
  setup: string;
  dialect: string;
  time_s: number;
  lines: number;
  stops: number;
  operations: string[];
}

/** A line of a comparison with its numbers in both programs. */
export interface LineChange {
  kind: "same" | "out" | "in" | "gap";
  first: number | null;
  second: number | null;
  text: string;
}

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

export interface Derived {
  value: number;
  unit: string;
  origin: string;
  formula: string;
  /** What it would be without the limit of the machine that holds it. */
  beyond?: number | null;
}

export interface Fault {
  code: string;
  what: string;
  remedy: string;
  where: string;
  offer?: Offered;
}

/** A change to an operation that failed with which it would work. */
export interface Offered {
  tool_at_most?: number;
  set?: Record<string, unknown>;
  parameters?: Record<string, unknown>;
}

export interface OperationState {
  name: string;
  key?: string;
  state: "ready" | "stale" | "failed";
  /** Why it failed. */
  error?: Fault;
  spindle_rpm: number;
  feed_mm_min: number;
}

/** An operation with nothing left open, and where the proposed numbers come from. */
export interface OperationValues {
  derived: Record<string, Derived>;
  parameters: Record<string, unknown>;
}

export interface SetupState {
  name: string;
  state: "ready" | "wrong" | "waits";
  error?: Fault;
  setup_from_part?: number[][];
  stock?: { min: Vec3; max: Vec3; shape: string | null };
  /** A name for the fixture's shape; null where none is drawn. */
  fixture?: string | null;
  /** Where every part of an array lies from the first. */
  copies?: Vec3[];
  /** How the part was turned from the setup before, in words. */
  moved?: string;
  part?: { min: Vec3; max: Vec3 };
  table_from_setup?: Vec3;
  /** The setup's sides in order, each with why its machine cannot reach it (empty where it can). */
  sides?: { name: string; setup_from_side: number[][]; out_of_reach: string }[];
  operations: OperationState[];
}

/** What of a release runs in one of its setups. */
export interface ReleaseState {
  name: string;
  /** The release's place in the document. */
  index: number;
  setup: string;
  dialect: string;
  state: "ready" | "stale" | "wrong";
  key?: string;
  error?: Fault;
}

export interface PartState {
  state: "missing" | "unread" | "ready";
  error?: Fault;
  key?: string;
  name?: string;
  kind?: string;
  solids?: number;
  faces?: number;
  edges?: number;
  volume_mm3?: number;
  area_mm2?: number;
  size?: Vec3;
  file_unit?: string;
  problems?: { severity: string; what: string; remedy: string }[];
}

export interface JobState {
  part: PartState;
  setups: SetupState[];
  releases: ReleaseState[];
}

export interface FaceFacts {
  id: number;
  kind: string;
  area: number;
  low: Vec3;
  high: Vec3;
  normal: Vec3 | null;
  origin: Vec3 | null;
  axis: Vec3 | null;
  radius: number | null;
  hollow: boolean | null;
}

export interface EdgeFacts {
  id: number;
  kind: string;
  length: number;
  faces: number[];
  start: Vec3;
  end: Vec3;
}

export interface Finding {
  severity: "stop" | "caution" | "note";
  kind: string;
  words: string;
  remedy: string;
  setup: string;
  operation: string;
  move: number;
  line: number;
  time_s: number;
  place: Vec3 | null;
  measure: number | null;
  limit: number | null;
}

export interface ProofFacts {
  setup: string;
  release: string;
  file: string;
  text: string;
  /** Names and texts as they are handed out. */
  files: [string, string][];
  tool_changes: number;
  order_saves_s: number;
  /** What the control's registers D are to hold, by tool number, mm: the radius, or 0 where it corrects the wear only. */
  registers: Record<string, number>;
  cell_mm: number;
  time_s: number;
  removed_mm3: number;
  operations: {
    name: string;
    strategy: string;
    tool: number;
    moves: number;
    cutting_length_mm: number;
    rapid_length_mm: number;
    time_s: number;
    removed_mm3: number;
    adapted_saves_s?: number;
    load: {
      time_in_cut_s: number;
      time_in_air_s: number;
      length_in_cut_mm?: number;
      engagement_p50_deg?: number;
      engagement_p95_deg?: number;
      engagement_max_deg?: number;
      depth_max_mm?: number;
      rate_max_cm3_min?: number;
      chip_max_mm?: number;
      force_max_n?: number;
      power_max_kw?: number;
      bending_max_mm?: number;
    };
  }[];
  deviation: {
    tolerance_mm: number;
    max_overcut_mm: number;
    max_leftover_mm: number;
    share_within_tolerance: number;
    share_leftover: number;
    share_overcut: number;
    share_of_reachable: number;
    worst: { place: Vec3; deviation_mm: number; face: number }[];
    histogram: { edges_mm: number[]; area_mm2: number[] };
  };
  findings: Finding[];
}

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

export interface StrategyInfo {
  id: string;
  title: string;
  summary: string;
  kinds: Tool["kind"][];
  target: "areas" | "holes" | "bosses" | "rounds" | "walls" | "rims" | "lines";
  finishes: boolean;
  parameters: { properties: Record<string, ParameterSchema> };
}

export interface Machine {
  id: string;
  name: string;
  joints: {
    name: string;
    letter: string;
    kind: "linear" | "rotary";
    low: number | null;
    high: number | null;
  }[];
  spindle_rpm: [number, number];
  spindle_power_kw: number;
  feed_max_mm_min: number;
}

export interface Library {
  machines: Machine[];
  materials: { id: string; name: string; group: string; source: string }[];
  recipes: HoleRecipeDoc[];
  part_recipes: PartRecipeDoc[];
  /** What a recipe's fields may hold, by field; `part_tool` is `tool` of a recipe for features. */
  recipe_choices: Record<
    "purposes" | "shapes" | "kinds" | "when" | "tool" | "size" | "part_tool" | "works_on",
    string[]
  >;
  tools: Tool[];
  dialects: { id: string; name: string; units: string; extension: string; arcs: string }[];
  strategies: StrategyInfo[];
}
