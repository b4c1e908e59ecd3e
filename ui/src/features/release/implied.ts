import type { Release } from "../../api/types";
import { freshRelease } from "../../session/fresh";

/** The releases that a job has while it names none: one a setup. */
export function implied(releases: { name: string; setup: string; dialect: string }[]): Release[] {
  return releases.map((r, i) => freshRelease(r.name, r.setup, r.dialect, i + 1));
}
