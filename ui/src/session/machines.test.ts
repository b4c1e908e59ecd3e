import { expect, test } from "vitest";
import type { JobDocument, Library, Machine } from "../api/types";
import { beyond, machinesOf } from "./machines";

const mill = { id: "a", name: "Mill A", joints: [], spindle_rpm: [50, 12000] } as unknown as Machine;

test("a job's own machines go before those of the library, and one of the same id stands in for it", () => {
  const library = { machines: [mill, { ...mill, id: "b", name: "Mill B" }] } as unknown as Library;
  const document = { machines: [{ ...mill, name: "Our mill" }] } as unknown as JobDocument;
  expect(machinesOf(document, library).map((m) => m.name)).toEqual(["Our mill", "Mill B"]);
  expect(machinesOf({} as JobDocument, library).map((m) => m.name)).toEqual(["Mill A", "Mill B"]);
});

test("a speed beyond the spindle's is said with both ends", () => {
  expect(beyond(12001, mill)).toBe("The spindle of Mill A runs from 50 to 12000 1/min.");
  expect(beyond(49, mill)).toContain("50 to 12000");
  expect(beyond(12000, mill)).toBeUndefined();
  expect(beyond(null, mill)).toBeUndefined();
});
