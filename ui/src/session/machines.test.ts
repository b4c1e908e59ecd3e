import { expect, test } from "vitest";
import type { JobDocument, Library, Machine, Setup } from "../api/types";
import { beyond, isArm, machinesOf, offsetOf } from "./machines";

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

test("an arm is known by its joints, and has no work offset", () => {
  const joint = (name: string, parent: string | null, kind = "rotary") => ({ name, parent, kind });
  const joints = [1, 2, 3, 4, 5, 6].map((n) => joint(`J${n}`, n > 1 ? `J${n - 1}` : null));
  const arm = { id: "arm", joints: [joint("E1", null), ...joints], tool: { joint: "J6" } };
  const tilting = { id: "mill", joints: [joint("Z", null, "linear"), joint("B", "Z")], tool: { joint: "B" } };
  expect(isArm(arm as unknown as Machine)).toBe(true);
  expect(isArm(tilting as unknown as Machine)).toBe(false);
  const library = { machines: [arm, tilting] } as unknown as Library;
  const setup = (machine: string) => ({ machine, work_offset: "G55" }) as Setup;
  const none = { machines: [] } as unknown as JobDocument;
  expect(offsetOf(none, library, setup("arm"))).toBeNull();
  expect(offsetOf(none, library, setup("mill"))).toBe("G55");
  expect(offsetOf(none, library, undefined)).toBeNull();
});
