import { expect, test } from "vitest";
import type { JobDocument } from "../api/types";
import { differences } from "./differences";

const job = (step: number, notes = "", names = ["Rough"]) =>
  ({
    name: "Bracket",
    setups: [
      { name: "Top", operations: names.map((name) => ({ name, notes, parameters: { step_down: step } })) },
    ],
  }) as unknown as JobDocument;

test("two states of a job differ where the sheets say, with both values", () => {
  expect(differences(job(2), job(2))).toEqual([]);
  expect(differences(job(2), job(3))).toEqual(["Top, 1.1 Rough, step down: 2 → 3"]);
  expect(differences(job(2), job(3, "slow"))).toEqual([
    "Top, 1.1 Rough, notes:  → slow",
    "Top, 1.1 Rough, step down: 2 → 3",
  ]);
  expect(differences(job(2), job(2, "", ["Rough", "Finish"]))).toEqual(["Top, 1.2 Finish: added"]);
});

test("many differences are counted", () => {
  const many = (v: number) => ({ a: v, b: v, c: v, d: v, e: v, f: v }) as unknown as JobDocument;
  expect(differences(many(1), many(2)).at(-1)).toBe("2 more");
});
