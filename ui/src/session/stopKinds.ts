/** What a replay can stop at. */
export type StopKind = "collision" | "near_miss" | "travel" | "tool" | "operation";
