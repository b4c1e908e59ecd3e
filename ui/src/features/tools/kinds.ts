import type { Tool } from "../../api/types";

export const KINDS = [
  { value: "flat", label: "Flat end mill" },
  { value: "corner", label: "Corner-radius end mill" },
  { value: "ball", label: "Ball end mill" },
  { value: "taper", label: "Tapered end mill" },
  { value: "taper_ball", label: "Tapered ball end mill" },
  { value: "chamfer", label: "Chamfer cutter" },
  { value: "drill", label: "Drill" },
  { value: "reamer", label: "Reamer" },
  { value: "boring", label: "Boring head" },
  { value: "tap", label: "Tap" },
  { value: "thread_mill", label: "Thread mill" },
  { value: "lollipop", label: "Lollipop cutter" },
  { value: "t_slot", label: "T-slot cutter" },
];

export const kindName = (kind: Tool["kind"]) => KINDS.find((k) => k.value === kind)?.label ?? kind;

/** A tool of another kind, with dimensions that its kind can have. */
export function ofKind(t: Tool, kind: Tool["kind"]) {
  const tapered = kind === "taper" || kind === "taper_ball";
  t.kind = kind;
  t.corner_radius =
    kind === "ball" || kind === "lollipop"
      ? t.diameter / 2
      : kind === "corner" || kind === "taper_ball"
        ? t.diameter / 8
        : 0;
  t.tip_diameter = kind === "taper" ? t.diameter / 2 : 0;
  t.taper_deg = tapered ? 10 : 0;
  t.point_deg = kind === "chamfer" ? 90 : kind === "drill" ? 118 : 0;
  const threads = kind === "tap" || kind === "thread_mill";
  t.thread_pitch = threads ? t.diameter / 8 : null;
  t.thread_rows = 1;
  if (kind === "thread_mill") t.shank_diameter = Math.min(t.shank_diameter, t.diameter * 0.84);
  if (kind === "lollipop" || kind === "t_slot") {
    t.shank_diameter = Math.min(t.shank_diameter, t.diameter / 2);
    t.flute_length = kind === "lollipop" ? t.diameter * 0.93 : t.diameter / 3;
  }
  t.flute_length = Math.max(t.flute_length, tapered ? t.diameter * 2.5 : 0);
  t.stick_out = Math.max(t.stick_out, t.flute_length);
}

const HOLDER = [
  { length: 26, diameter_low: 26, diameter_high: 30 },
  { length: 20, diameter_low: 40, diameter_high: 40 },
];

/** A tool to begin with: an end mill of 10 mm in a plain holder. */
export const blankTool = (number: number): Tool => ({
  number,
  name: "New tool",
  kind: "flat",
  diameter: 10,
  corner_radius: 0,
  taper_deg: 0,
  point_deg: 0,
  tip_diameter: 0,
  thread_pitch: null,
  thread_hand: "right",
  thread_rows: 1,
  flute_length: 22,
  teeth: 3,
  shank_diameter: 10,
  stick_out: 34,
  cutter_material: "carbide",
  coating: "uncoated",
  rpm_max: null,
  feed_per_tooth_max: null,
  holder: structuredClone(HOLDER),
  to_check: false,
});

/** The first number from a wished one that no tool of the job has. */
export function freeNumber(wanted: number, tools: Tool[]): number {
  const taken = new Set(tools.map((t) => t.number));
  let number = wanted;
  while (taken.has(number)) number++;
  return number;
}
