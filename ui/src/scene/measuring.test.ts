import * as THREE from "three";
import { expect, test } from "vitest";
import {
  gapBetween,
  measuredBy,
  pickBody,
  Ruler,
  takenOut,
  type Axis,
  type BodyPick,
  type Gap,
  type Pickable,
} from "./measuring";
import { NodeTree, type Chain } from "./nodes";

const SHIFT = new THREE.Matrix4().makeTranslation(0, 0, 30);
/** A table that moves along X, a spindle along Z; the setup stands 30 over the table. */
const MILL: Chain = {
  joints: [
    { name: "x", kind: "linear", axis: [-1, 0, 0], point: [0, 0, 0], parent: null },
    { name: "z", kind: "linear", axis: [0, 0, 1], point: [0, 0, 0], parent: null },
  ],
  work: { joint: "x", frame: SHIFT },
  tool: { joint: "z", frame: new THREE.Matrix4() },
};

const table: BodyPick = {
  body: "table",
  carrier: { of: "machine", joint: "x" },
  point: [50, 20, 0],
  normal: [0, 0, 1],
};
const underside: BodyPick = {
  body: "fixture",
  carrier: { of: "work" },
  point: [10, 5, -25],
  normal: [0, 0, -1],
};
const nose: BodyPick = {
  body: "spindle nose",
  carrier: { of: "machine", joint: "z" },
  point: [0, 0, 0],
  normal: [0, 0, -1],
};

function tree(values: Record<string, number> = {}) {
  const nodes = new NodeTree();
  nodes.setChain(MILL);
  nodes.setJoints(values);
  return nodes;
}

test("a gap is measured out of the first face and from place to place, in the program's directions", () => {
  const gap = gapBetween(tree({ x: 70, z: 300 }), table, underside);
  expect(gap.out).toBeCloseTo(5, 9);
  expect(gap.way.map((v) => +v.toFixed(9))).toEqual([-40, -15, 5]);
  expect(gap.distance).toBeCloseTo(Math.hypot(40, 15, 5), 9);
});

test("what stands on the table is moved so that the second place lies in the first face, whichever is first", () => {
  const nodes = tree();
  expect(takenOut(gapBetween(nodes, table, underside), table, underside)).toEqual([0, 0, -5]);
  expect(takenOut(gapBetween(nodes, underside, table), underside, table)).toEqual([0, 0, -5]);
  expect(takenOut(gapBetween(nodes, table, nose), table, nose)).toBeNull();
});

test("the number lives on while the machine moves, and is told when it has changed", () => {
  const nodes = tree({ z: 100 });
  const told: (Gap | null)[] = [];
  const ruler = new Ruler(nodes, 0);
  ruler.changed = (gap) => told.push(gap);
  ruler.set([underside, nose]);
  ruler.follow();
  nodes.setJoints({ z: 60, x: 0 });
  ruler.follow();
  ruler.set([underside]);
  expect(told.map((g) => g && +g.way[2].toFixed(6))).toEqual([95, 55, null]);
});

test("the nearest body under the pointer is picked, with the side of its face that is seen", () => {
  const nodes = tree({ x: 20 });
  const box = (z: number) => {
    const mesh = new THREE.Mesh(new THREE.BoxGeometry(40, 40, 10), new THREE.MeshBasicMaterial());
    mesh.position.set(0, 0, z);
    return mesh;
  };
  const [low, high] = [box(0), box(50)];
  nodes.work.add(low);
  nodes.nodeOf("z").add(high);
  nodes.base.updateMatrixWorld(true);
  const things: Pickable[] = [
    { body: "fixture", carrier: { of: "work" }, thing: low },
    { body: "head", carrier: { of: "machine", joint: "z" }, thing: high },
  ];
  const from = (z: number, way: number) =>
    new THREE.Raycaster(new THREE.Vector3(5, 5, z), new THREE.Vector3(0, 0, way));
  const over = pickBody(from(300, -1), things, nodes)!;
  expect([over.body, ...over.normal.map((v) => +v.toFixed(6) + 0)]).toEqual(["head", 0, 0, 1]);
  const under = pickBody(from(-300, 1), things, nodes)!;
  expect([under.body, +under.point[2].toFixed(6)]).toEqual(["fixture", -5]);
  expect(pickBody(from(300, 1), things, nodes)).toBeNull();
});

const bore = (x: number, y: number, along: [number, number, number] = [0, 0, 1]): BodyPick => ({
  body: "part",
  carrier: { of: "work" },
  point: [x + 5, y, -4],
  normal: [-1, 0, 0],
  axis: { at: [x, y, -4], along, radius: 5 },
});

test("round faces are measured by their axis, or where they were picked", () => {
  const nodes = tree();
  const [one, two] = [bore(10, 20), bore(40, 60)].map((p) => measuredBy(p, true));
  const gap = gapBetween(nodes, one, two);
  expect(gap.out).toBeCloseTo(50, 9);
  expect(gap.direction.map((v) => +v.toFixed(9))).toEqual([0.6, 0.8, 0]);
  const skew = measuredBy(bore(40, 60, [1, 0, 0]), true);
  expect(gapBetween(nodes, one, skew).out).toBeCloseTo(40, 9); // square to both
  const side: BodyPick = { ...table, point: [-30, 0, 10], normal: [-1, 0, 0] };
  expect(gapBetween(nodes, side, one).out).toBeCloseTo(-40, 9);
  expect(gapBetween(nodes, side, measuredBy(bore(10, 20), false)).out).toBeCloseTo(-45, 9);
  // onto the axis of the spindle, which stands over the table's middle
  const spindle: BodyPick = { ...nose, axis: { at: [0, 0, 0], along: [0, 0, 1], radius: 0 } };
  expect(takenOut(gapBetween(nodes, spindle, one), spindle, one)).toEqual([-10, -20, 0]);
});

test("the axis of a picked round face goes through the foot of the place", () => {
  const nodes = tree();
  const mesh = new THREE.Mesh(new THREE.CylinderGeometry(5, 5, 30, 64), new THREE.MeshBasicMaterial());
  mesh.position.set(7, 0, 0); // its own axis is Y
  nodes.work.add(mesh);
  nodes.base.updateMatrixWorld(true);
  const axisOf = () => ({ at: [0, 99, 0], along: [0, 1, 0], radius: 5 }) as Axis;
  const things: Pickable[] = [{ body: "part", carrier: { of: "work" }, thing: mesh, axisOf }];
  const ray = new THREE.Raycaster(new THREE.Vector3(7, 3, 200), new THREE.Vector3(0, 0, -1));
  const pick = pickBody(ray, things, nodes)!;
  expect(pick.axis!.at.map((v) => +v.toFixed(6) + 0)).toEqual([7, 3, 0]);
  expect(pick.axis!.along.map((v) => +v.toFixed(6) + 0)).toEqual([0, 1, 0]);
});
