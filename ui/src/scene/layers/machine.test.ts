import * as THREE from "three";
import { expect, test } from "vitest";
import { LIGHT } from "../colours";
import { NodeTree } from "../nodes";
import { MachineLayer } from "./machine";

const STAGE = { ask: () => {}, colours: LIGHT };

test("bodies hang on the joints that carry them, and go with them", () => {
  const tree = new NodeTree();
  const mount = new THREE.Matrix4();
  tree.setChain(
    {
      joints: [{ name: "J1", kind: "rotary", axis: [0, 0, 1], point: [0, 0, 0], parent: null }],
      work: { joint: null, frame: mount },
      tool: { joint: "J1", frame: mount },
    },
    true,
  );
  const layer = new MachineLayer(tree, STAGE);
  layer.set([
    { role: "base", begin: [0, 0, 0], end: [0, 0, 100], radius: 50 },
    { joint: "J1", begin: [0, 0, 100], end: [200, 0, 100], radius: 30, radius_end: 20 },
  ]);
  const box = () => new THREE.Box3().setFromObject(tree.nodeOf("J1"));
  expect(box().max.x).toBeCloseTo(200, 3);
  tree.setJoints({ J1: 90 });
  expect(box().max.y).toBeCloseTo(200, 3);
  expect(box().max.x).toBeLessThan(31);
  const base = new THREE.Box3().setFromObject(tree.base.children.find((c) => (c as THREE.Mesh).isMesh)!);
  expect(base.max.z).toBeCloseTo(100, 3);
  layer.dispose();
  expect(tree.nodeOf("J1").children).toHaveLength(1); // the tool's node
});
