import { expect, test } from "vitest";
import type { JobDocument, Machine } from "../../../api/types";
import { freeId, outlineOf, outlineText, renameJoint, takeIn } from "./own";

const MILL = {
  id: "mill",
  name: "Mill",
  joints: [
    { name: "X", letter: "X", kind: "linear", axis: [1, 0, 0], parent: null },
    { name: "A", letter: "A", kind: "rotary", axis: [1, 0, 0], parent: "X" },
  ],
  work: { joint: "A" },
  tool: { joint: null },
  bodies: [{ kind: "box", joint: "A", role: "table", low: [0, 0, 0], high: [1, 1, 1] }],
  home: { A: 30 },
  tool_change_at: { A: 0 },
} as unknown as Machine;

const job = () => ({ machines: [], setups: [{ machine: "mill_2" }] }) as unknown as JobDocument;

test("a machine of the library becomes the job's own under a free name and id, once", () => {
  const document = job();
  const id = takeIn(document, MILL, [MILL]);
  expect([id, document.machines![0].name]).toEqual(["mill_2", "Mill 2"]);
  expect(takeIn(document, document.machines![0], [MILL])).toBe("mill_2");
  expect(document.machines).toHaveLength(1);
});

test("a joint that gets another name keeps what sits on it", () => {
  const machine = structuredClone(MILL);
  renameJoint(machine, "A", "Tilt");
  expect(machine.joints[1].name).toBe("Tilt");
  expect([machine.work.joint, machine.bodies![0].joint, machine.home]).toEqual([
    "Tilt",
    "Tilt",
    { Tilt: 30 },
  ]);
  expect(machine.tool_change_at).toEqual({ Tilt: 0 });
  renameJoint(machine, "X", "Cross");
  expect(machine.joints[1].parent).toBe("Cross");
});

test("ids are plain and free", () => {
  expect(freeId("Our mill, no. 2", [])).toBe("our_mill_no_2");
  expect(freeId("Mill", ["mill", "mill_2"])).toBe("mill_3");
  expect(freeId("…", [])).toBe("machine");
});

test("an outline is typed as pairs", () => {
  expect(outlineOf("0, 0; 50 0; 50,20.5;")).toEqual([[0, 0], [50, 0], [50, 20.5]]); // prettier-ignore
  expect(outlineText([[0, 0], [50, 0]])).toBe("0, 0; 50, 0"); // prettier-ignore
  expect(outlineOf("0, 0; 50, 0")).toBeNull();
  expect(outlineOf("0, 0; 50, x; 1, 1")).toBeNull();
});
