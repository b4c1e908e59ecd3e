import type { JobDocument } from "../api/types";
import { placeWords } from "./places";

/** More differences than these are counted. */
const FEW = 4;

const plain = (value: unknown) =>
  value === undefined || value === null ? "nothing" : typeof value === "object" ? "other" : String(value);

/** Where two states of a job differ, with the values before and after, as the sheets name the places. */
export function differences(before: JobDocument, after: JobDocument): string[] {
  const found: string[] = [];
  const look = (a: unknown, b: unknown, place: string) => {
    if (Object.is(a, b)) return;
    const [one, two] = [a, b].map((v) =>
      v && typeof v === "object" ? (v as Record<string, unknown>) : null,
    );
    if (!one || !two) {
      if (one || two)
        found.push(`${words(place, after)}: ${a == null ? "added" : b == null ? "removed" : "changed"}`);
      else found.push(`${words(place, after)}: ${plain(a)} → ${plain(b)}`);
      return;
    }
    for (const key of new Set([...Object.keys(one), ...Object.keys(two)])) {
      const step = Array.isArray(a) || Array.isArray(b) ? `[${key}]` : place ? `.${key}` : key;
      look(one[key], two[key], place + step);
    }
  };
  look(before, after, "");
  const more = found.length - FEW;
  return more > 0 ? [...found.slice(0, FEW), `${more} more`] : found;
}

const words = (place: string, document: JobDocument) =>
  placeWords(place, document).replace("parameters.", "").replaceAll("_", " ");
