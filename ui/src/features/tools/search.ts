import { INCH } from "../../forms/fields";
import type { Tool } from "../../api/types";
import { kindName } from "./kinds";

/** How far a diameter may be from one that is asked for, mm. */
const SAME = 0.02;

/** A length in mm that somebody wrote: "8", "Ø8", "8 mm", "8,5", "5/16 in"; null where it is none. */
export function lengthIn(text: string, units: "mm" | "inch"): number | null {
  const found = /^[øØ]?\s*(\d+(?:[.,]\d+)?)(?:\s*\/\s*(\d+))?\s*(mm|in|inch|")?$/.exec(
    text.trim().toLowerCase(),
  );
  if (!found) return null;
  const value = Number(found[1].replace(",", ".")) / (found[2] ? Number(found[2]) : 1);
  const unit = found[3] ?? (found[2] ? "in" : units);
  return unit === "mm" ? value : value * INCH;
}

/** Whether a tool is what somebody looks for: by its diameter, its number ("T8") or the words of name and kind. */
export function matches(tool: Tool, text: string, units: "mm" | "inch"): boolean {
  const wanted = text.trim().toLowerCase();
  if (!wanted) return true;
  const length = lengthIn(wanted, units);
  if (length !== null) return Math.abs(tool.diameter - length) < SAME;
  if (/^t\d+$/.test(wanted)) return `t${tool.number}` === wanted;
  const words = `${tool.name} ${kindName(tool.kind)}`.toLowerCase();
  return wanted.split(/\s+/).every((w) => words.includes(w));
}
