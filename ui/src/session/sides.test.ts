import { expect, test } from "vitest";
import { fresh } from "./changes";
import { removeSide, renameSide, sideOf } from "./sides";

test("a side is named after what was picked, and its name is its own", () => {
  const face = { id: 3, kind: "plane" };
  const first = sideOf(face, [0.12345678, 0, 1], []);
  expect(first).toMatchObject({ name: "Face 3", up: { face: 3 }, origin: [0.123457, 0, 1] });
  expect(sideOf(face, [0, 0, 0], ["Face 3"]).name).toBe("Face 3, 2");
  expect(sideOf({ id: 8, kind: "cylinder" }, [0, 0, 0], []).name).toBe("Bore 8");
});

test("operations follow a side's name and work from above when it goes", () => {
  const setup = fresh([]);
  setup.sides = [sideOf({ id: 3, kind: "plane" }, [0, 0, 0], [])];
  setup.operations = [{ name: "Drill", side: "Face 3" }, { name: "Top" }] as typeof setup.operations;
  renameSide(setup, "Face 3", "Gauge face");
  expect(setup.operations[0].side).toBe("Gauge face");
  removeSide(setup, "Gauge face");
  expect(setup.sides).toEqual([]);
  expect(setup.operations.map((o) => o.side ?? null)).toEqual([null, null]);
});
