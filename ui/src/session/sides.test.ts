import { expect, test } from "vitest";
import { fresh } from "./changes";
import type { FaceFacts, SetupState, Vec3 } from "../api/types";
import { bySide, givenBy, removeSide, renameSide, sideOf, sidesAt, towards } from "./sides";

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

test("a pick gives a side for its face, its edge and, with two before it, its plane", () => {
  const faces = [{ id: 1, kind: "plane", normal: [0, 0, 1] }] as FaceFacts[];
  const edges = [
    { id: 1, kind: "line" },
    { id: 2, kind: "circle" },
  ];
  const pick = (edge: number | null, x: number) => ({ face: 1, point: [x, 0, 0] as Vec3, edge });
  const labels = (picks: ReturnType<typeof pick>[]) => sidesAt(picks, faces, edges, []).map((o) => o.label);
  expect(labels([])).toEqual([]);
  expect(labels([pick(1, 0)])).toEqual(["Work from here", "Work along edge 1"]);
  expect(labels([pick(2, 0)])).toEqual(["Work from here", "Work square to edge 2"]);
  const three = sidesAt([pick(null, 0), pick(null, 1), pick(null, 2)], faces, edges, ["Three points"]);
  expect(three[1].side).toMatchObject({ name: "Three points, 2", origin: [0, 0, 0] });
  expect(three[1].side.up.points).toHaveLength(3);
});

test("what a side was given by is told in words", () => {
  const words = (way: Parameters<typeof towards>[0]) =>
    givenBy({ name: "S", up: towards(way), turn_deg: 0, origin: null }, [
      { kind: "plane" },
      { kind: "cone" },
    ]);
  expect(words({ face: 1 })).toBe("towards face 1");
  expect(words({ face: 2 })).toBe("along bore 2");
  expect(words({ edge: 4 })).toBe("by edge 4");
  expect(words({ rotary: { A: 30 } })).toBe("by rotary positions");
  expect(words({ axis: "-x" })).toBe("towards -x of the part");
});

test("holes and features stand under the side from which they are made", () => {
  const setup = {
    setup_from_part: [
      [1, 0, 0, 5],
      [0, 1, 0, 0],
      [0, 0, 1, -3],
    ],
    sides: [
      {
        name: "Front",
        setup_from_side: [
          [1, 0, 0, 0],
          [0, 0, -1, 0],
          [0, 1, 0, 0],
        ],
      },
    ],
  } as unknown as SetupState;
  const things = [
    { name: "port", ways: [[0, -1, 0]] },
    { name: "thread", ways: [[0, 0, 1]] },
    {
      name: "through",
      ways: [
        [0, 0, -1],
        [0, 0, 1],
      ],
    },
    { name: "behind", ways: [[0, 1, 0]] },
  ];
  const found = bySide(things, (t) => t.ways, setup);
  expect(found.map(({ group, items }) => [group, items.map((t) => t.name)])).toEqual([
    ["From above", ["thread", "through"]],
    ["Front", ["port"]],
    ["Not from this setup", ["behind"]],
  ]);
});
