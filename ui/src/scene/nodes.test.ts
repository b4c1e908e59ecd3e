import * as THREE from "three";
import { expect, test } from "vitest";
import type { Vec3 } from "../api/types";
import { frameOf, matrixOf, NodeTree, placeAt, type Chain } from "./nodes";

const AT_ORIGIN = [
  [1, 0, 0, 0],
  [0, 1, 0, 0],
  [0, 0, 1, 0],
  [0, 0, 0, 1],
];
const shifted = (...to: [number, number, number]) =>
  AT_ORIGIN.map((row, i) => [...row.slice(0, 3), i < 3 ? to[i] : 1]);

/** A column mill whose table moves along X and carries a rotary about X (A) and one about Z (C) on it. */
const TILTING: Chain = {
  joints: [
    { name: "x", kind: "linear", axis: [-1, 0, 0], point: [0, 0, 0], parent: null },
    { name: "a", kind: "rotary", axis: [1, 0, 0], point: [0, 50, 20], parent: "x" },
    { name: "c", kind: "rotary", axis: [0, 0, 1], point: [10, 50, 0], parent: "a" },
    { name: "z", kind: "linear", axis: [0, 0, 1], point: [0, 0, 0], parent: null },
  ],
  work: { joint: "c", frame: matrixOf(shifted(10, 50, 30)) },
  tool: { joint: "z", frame: matrixOf(shifted(0, 0, 400)) },
};

/** Where a point of one node is in another. */
function seen(from: THREE.Object3D, to: THREE.Object3D, point: [number, number, number] = [0, 0, 0]) {
  const there = to.worldToLocal(from.localToWorld(new THREE.Vector3(...point)));
  return there.toArray().map((v) => Math.round(v * 1e6) / 1e6 + 0);
}

test("without a machine, work and tool hang at the base, and the tool is where it is placed", () => {
  const tree = new NodeTree();
  placeAt(tree.tool, new THREE.Matrix4().makeTranslation(3, 4, 5));
  expect(seen(tree.tool, tree.work)).toEqual([3, 4, 5]);
});

test("the work stands still while the machine moves about it", () => {
  const tree = new NodeTree();
  tree.setChain(TILTING);
  tree.setJoints({ x: 120, a: 30, c: 200, z: -80 });
  expect(tree.work.matrixWorld.elements.map((v) => Math.round(v * 1e9) / 1e9 + 0)).toEqual(AT_ORIGIN.flat());
});

test("linear joints carry what hangs on them, by their axis' direction", () => {
  const tree = new NodeTree();
  tree.setChain(TILTING);
  tree.setJoints({ x: 120, z: -80 });
  // the tool's mount at 0 0 320; the work at 10 - 120, 50, 30
  expect(seen(tree.tool, tree.work)).toEqual([110, -50, 290]);
});

test("a rotary turns its children right-handed about its point", () => {
  const tree = new NodeTree();
  tree.setChain(TILTING);
  tree.setJoints({ a: 90 });
  // the work's origin, 10 over the axis of A at Y 50, goes to Y 40 and its Z axis to -Y
  expect(seen(tree.work, tree.base)).toEqual([10, 40, 20]);
  expect(seen(tree.work, tree.base, [0, 0, 1])).toEqual([10, 39, 20]);
  tree.setJoints({ a: 90, c: 90 });
  // X of the work now along what was Y, stood up
  expect(seen(tree.work, tree.base, [1, 0, 0])).toEqual([10, 40, 21]);
});

test("a machine is taken off again", () => {
  const tree = new NodeTree();
  tree.setChain(TILTING);
  tree.setJoints({ a: 90, x: 10 });
  tree.setChain(null);
  expect(seen(tree.tool, tree.work)).toEqual([0, 0, 0]);
  expect(tree.base.children).toHaveLength(2);
});

test("a joint that hangs on one that is not there yet is told", () => {
  const tree = new NodeTree();
  const joints = [{ ...TILTING.joints[1], parent: "nowhere" }];
  expect(() => tree.setChain({ ...TILTING, joints })).toThrow("nowhere");
});

test("standing beside the machine, the base stands still and the work turns", () => {
  const tree = new NodeTree();
  tree.setChain(TILTING, true);
  const before = tree.base.matrixWorld.clone();
  tree.setJoints({ c: 90 });
  expect(tree.base.matrixWorld.equals(before)).toBe(true);
  // with all joints at zero the world is the work's frame; then its X points along what was Y
  const x = tree.work.localToWorld(new THREE.Vector3(1, 0, 0));
  expect(x.toArray().map((v) => Math.round(v * 1e9) / 1e9 + 0)).toEqual([0, 1, 0]);
});

test("a mount has its Z where it is said, and without an X that of the machine, square to it", () => {
  const leaning = frameOf({ at: [1, 2, 3], z: [-1, 0, 1], x: [1, 0, 1] });
  const point = new THREE.Vector3(0, 0, Math.SQRT2).applyMatrix4(leaning);
  expect(point.toArray().map((v) => Math.round(v * 1e9) / 1e9 + 0)).toEqual([0, 2, 4]);
  const plain = frameOf({ z: [0, 0, 1] });
  expect(plain.equals(new THREE.Matrix4())).toBe(true);
  const along = new THREE.Vector3(1, 0, 0).applyMatrix4(frameOf({ z: [1, 0, 0] }));
  expect(along.toArray()).toEqual([0, 1, 0]);
});

test("a place of the work that is held stays while the work turns about it", () => {
  const tree = new NodeTree();
  const joints = [
    { name: "Y", kind: "linear" as const, axis: [0, -1, 0] as Vec3, point: [0, 0, 0] as Vec3, parent: null },
    { name: "A", kind: "rotary" as const, axis: [-1, 0, 0] as Vec3, point: [0, 0, 45] as Vec3, parent: "Y" },
  ];
  const frame = new THREE.Matrix4();
  tree.setChain(
    { joints, work: { joint: "A", frame }, tool: { joint: null, frame: frame.clone() } },
    true,
    [3, 4, 5],
  );
  tree.setJoints({ Y: 120, A: 90 });
  const place = (x: number, y: number, z: number) =>
    tree.work
      .localToWorld(new THREE.Vector3(x, y, z))
      .toArray()
      .map((v) => Math.round(v * 1e6) / 1e6);
  expect(place(3, 4, 5)).toEqual([3, 4, 5]);
  // about -X by 90 degrees: what pointed up points to +Y
  expect(place(3, 4, 15)).toEqual([3, 14, 5]);
  expect(tree.turns).toBe(true);
});
