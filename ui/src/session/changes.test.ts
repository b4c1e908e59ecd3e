import { expect, test } from "vitest";
import type { JobDocument, Setup } from "../api/types";
import { fresh, remove, rename } from "./changes";

function job(): JobDocument {
  const setups = [fresh([])];
  setups.push(fresh(setups));
  setups.push(fresh(setups));
  const releases = [
    { name: "A", setup: "Top", also: [] },
    { name: "B", setup: "Top", also: ["Setup 2", "Setup 3"] },
    { name: "C", setup: "Setup 3", also: ["Setup 2"] },
  ];
  return { setups, releases } as unknown as JobDocument;
}
const leaves = ({ stock }: Setup) => (stock.kind === "carried" ? stock.setup : undefined);
const setupsOf = (d: JobDocument) => d.releases.map((r) => [r.setup, ...(r.also ?? [])]);

test("a new setup is of the other side, in what the last one leaves", () => {
  const { setups } = job();
  expect(setups.map((s) => s.up.axis)).toEqual(["+z", "-z", "+z"]);
  expect(setups.map(leaves)).toEqual([undefined, "Top", "Setup 2"]);
  expect(setups.map((s) => s.work_offset)).toEqual(["G54", "G55", "G56"]);
});

test("a setup is renamed wherever it is spoken of", () => {
  const d = job();
  rename(d, 1, "Bottom");
  expect(d.setups.map((s) => s.name)).toEqual(["Top", "Bottom", "Setup 3"]);
  expect(leaves(d.setups[2])).toBe("Bottom");
  expect(setupsOf(d)).toEqual([["Top"], ["Top", "Bottom", "Setup 3"], ["Setup 3", "Bottom"]]);
});

test("releases go on without a setup that is taken out, unless it was their only one", () => {
  const d = job();
  remove(d, 0);
  expect(d.releases.map((r) => r.name)).toEqual(["B", "C"]);
  expect(setupsOf(d)).toEqual([
    ["Setup 2", "Setup 3"],
    ["Setup 3", "Setup 2"],
  ]);
  expect(d.setups.map((s) => s.stock.kind)).toEqual(["box", "carried"]);
});
