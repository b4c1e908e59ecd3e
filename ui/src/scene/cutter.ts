import type { Tool } from "../api/types";

/** The underside of a cutter: heights over the tip at even distances from the axis, out to `radius`. */
export interface CutterShape {
  radius: number;
  rise: Float32Array;
}

const STEPS = 256;
const CONED = ["taper", "taper_ball", "chamfer", "drill"];

export const hasCone = (tool: Tool) => CONED.includes(tool.kind);
export const undercuts = (tool: Tool) => ["lollipop", "t_slot", "thread_mill"].includes(tool.kind);

/** Height mm of the underside over the tip at a distance mm from the axis: flat, arc, cone. */
export function underside(tool: Tool, distance: number): number {
  const c = tool.corner_radius;
  const radius = tool.diameter / 2;
  const arc = (over: number) => (over <= 0 ? 0 : c - Math.sqrt(Math.max(0, c * c - over * over)));
  if (!hasCone(tool)) return arc(distance - (radius - c));
  const lean = ((tool.taper_deg || tool.point_deg / 2) * Math.PI) / 180;
  const start = tool.tip_diameter / 2 + c * Math.cos(lean);
  if (distance <= start) return arc(distance - tool.tip_diameter / 2);
  return c * (1 - Math.sin(lean)) + (distance - start) / Math.tan(lean);
}

/** Radius under a thread mill's teeth, and what a tap leaves free: its thread's minor diameter. */
export function coreRadius(tool: Tool): number {
  const height = tool.kind === "thread_mill" ? 0.6 : (0.625 * Math.sqrt(3)) / 2;
  return tool.diameter / 2 - height * (tool.thread_pitch ?? 0);
}

/** What a tool surely clears from above: under a neck only the neck's width. */
export function clearedShape(tool: Tool): CutterShape {
  if (undercuts(tool)) return { radius: tool.shank_diameter / 2, rise: new Float32Array(STEPS + 1) };
  const radius = tool.kind === "tap" ? coreRadius(tool) : tool.diameter / 2;
  const rise = Float32Array.from({ length: STEPS + 1 }, (_, i) => underside(tool, (radius * i) / STEPS));
  return { radius, rise };
}

/** Half the section of the cutting part, (distance from the axis, height over the tip), from tip to top. */
export function section(tool: Tool): [number, number][] {
  const radius = tool.diameter / 2;
  const top = tool.flute_length;
  if (tool.kind === "lollipop") {
    const neck = Math.asin(Math.min(1, tool.shank_diameter / tool.diameter));
    return Array.from({ length: 33 }, (_, i) => {
      const a = ((Math.PI - neck) * i) / 32;
      return [radius * Math.sin(a), radius * (1 - Math.cos(a))];
    });
  }
  if (tool.kind === "thread_mill") return teeth(tool);
  const c = tool.corner_radius;
  const lean = hasCone(tool) ? ((tool.taper_deg || tool.point_deg / 2) * Math.PI) / 180 : 0;
  const flat = hasCone(tool) ? tool.tip_diameter / 2 : radius - c;
  const points: [number, number][] = [[0, 0]];
  for (let i = 0; i <= 12; i++) {
    const a = (Math.PI / 2 - lean) * (i / 12);
    points.push([flat + c * Math.sin(a), c * (1 - Math.cos(a))]);
  }
  points.push([radius, underside(tool, radius)], [radius, top], [0, top]);
  return points;
}

/** A thread mill's section: rows of teeth of 60° on a core. */
function teeth(tool: Tool): [number, number][] {
  const [core, radius, pitch] = [coreRadius(tool), tool.diameter / 2, tool.thread_pitch ?? 0];
  const half = 0.0625 * pitch;
  const foot = half + (radius - core) * Math.tan(Math.PI / 6);
  const points: [number, number][] = [
    [0, 0],
    [core, 0],
  ];
  for (let i = 0; i < tool.thread_rows; i++) {
    const at = (i + 0.5) * pitch;
    points.push([core, at - foot], [radius, at - half], [radius, at + half], [core, at + foot]);
  }
  points.push([core, tool.flute_length], [0, tool.flute_length]);
  return points;
}
