/** Shapes of the job document and of what the server derives from it. Lengths mm. */

import type { components } from "./schema";

type S = components["schemas"];

export type Vec3 = [number, number, number];

export type HolderSegment = S["HolderSegment"];

export type Tool = S["Assembly"];

export type Height = S["Height"];

export type Boundary = S["Boundary"];

/** A round hole by a face of its wall, or by its place in program coordinates. */
export type HolePick = S["HolePick"];

/** A wall, or a floor or top that stands for the walls it meets; an edge for the wall along it; or all that bounds the part. */
export type WallPick = S["WallPick"];

/** A line to engrave: an edge, the border of a face, points, or a text with its foot `at` a place; program coordinates, mm. */
export type LinePick = S["LinePick"];

/** Holes that are alike; `faces` are the walls of each, `uses` the likeliest first. */
export type HoleGroup = S["HoleGroup"];

/** Pockets, slots, bosses, tops, broken edges that are made alike; `faces` are those of each. */
export type FeatureGroup = S["FeatureGroup"];

export type Operation = S["OperationDoc"];

export type Stock = NonNullable<Setup["stock"]>;

export type PartArray = S["PartArray"];

/** A fixture by its name: pieces in its own frame, mm. */
export type Fixture = S["Fixture"];

/** What holds the stock: a vice, jaws, clamps, blocks, plates, solids from a file; mm. */
export type FixturePiece = Fixture["pieces"][number];

/** A direction from which a clamped part is worked besides the setup's own. */
export type Side = S["SideDoc"];

export type Setup = S["SetupDoc"];

/** An area that is named once and used by many operations. */
export type Area = S["AreaDoc"];

export type How = Repeat["how"];

/** Operations that are made again at further places. */
export type Repeat = S["RepeatDoc"];

export type Release = S["ReleaseDoc"];

/** What a release asks for in its text; what is open is as the dialect says. */
export type PostOptions = S["PostOptions"];

/** A release that was kept. */
export type Kept = S["Kept"];

/** A line of a comparison with its numbers in both programs. */
export type LineChange = S["LineChange"];

export type JobDocument = S["Job"];

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

export type HoleRecipeDoc = S["Recipe"];

export type PartRecipeDoc = S["PartRecipe"];

export type Derived = S["Derived"];

export type Fault = S["Fault"];

/** A way up of the part, and what is reached from there. */
export type WayUp = S["WayUp"];
export type SideState = S["SideState"];
export type SideNeeded = S["SideNeeded"];

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

export type MachineJoint = Machine["joints"][number];

export type MachineBodyDoc = NonNullable<Machine["bodies"]>[number];

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

/** The sides that a setup needs, and further clampings for those out of its machine's reach. */
export type SidesNeeded = S["Needed"];
