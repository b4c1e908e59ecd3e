import * as THREE from "three";
import { expect, test } from "vitest";
import { LIGHT } from "../colours";
import { NodeTree } from "../nodes";
import { bodiesOf, MachineLayer, type MachineBody } from "./machine";

const STAGE = { ask: () => {}, colours: LIGHT };
const NONE: ReadonlySet<string> = new Set();

/** A box from the origin as a body. */
function box(name: string, joint: string | null, size: [number, number, number]): MachineBody {
  const shape = new THREE.BoxGeometry(...size).translate(size[0] / 2, size[1] / 2, size[2] / 2);
  return {
    name,
    joint,
    role: "link",
    vertices: shape.attributes.position.array as Float32Array,
    triangles: new Int32Array(shape.index!.array),
  };
}

function cell() {
  const tree = new NodeTree();
  const mount = new THREE.Matrix4();
  tree.setChain(
    {
      joints: [
        { name: "J1", kind: "rotary", axis: [0, 0, 1], point: [0, 0, 0], parent: null },
        { name: "X", kind: "linear", axis: [1, 0, 0], point: [0, 0, 0], parent: null },
      ],
      work: { joint: "X", frame: mount },
      tool: { joint: "J1", frame: mount },
    },
    true,
  );
  const layer = new MachineLayer(tree, STAGE);
  layer.set([box("bed", null, [50, 50, 100]), box("arm", "J1", [200, 10, 10]), box("table", "X", [9, 9, 9])]);
  return { tree, layer };
}

test("bodies hang on the joints that carry them, and go with them", () => {
  const { tree, layer } = cell();
  const arm = () => new THREE.Box3().setFromObject(layer.things.find((t) => t.name === "arm")!);
  expect(arm().max.x).toBeCloseTo(200, 3);
  tree.setJoints({ J1: 90 });
  expect(arm().max.y).toBeCloseTo(200, 3);
  expect(arm().max.x).toBeLessThan(1);
  const bed = new THREE.Box3().setFromObject(layer.things.find((t) => t.name === "bed")!);
  expect(bed.max.z).toBeCloseTo(100, 3);
  layer.dispose();
  expect(tree.nodeOf("J1").children).toHaveLength(1); // the tool's node
});

test("the machine is seen, seen through, its base only, or hidden; what meets is painted and solid", () => {
  const { layer } = cell();
  const names = () => layer.things.map((t) => t.name);
  const skin = (name: string) => {
    const mesh = layer.things.find((t) => t.name === name)!.children[0] as THREE.Mesh;
    return mesh.material as THREE.MeshStandardMaterial;
  };
  layer.show("base", new Set(["X"]), NONE);
  expect(names()).toEqual(["bed", "table"]);
  layer.show("hidden", NONE, NONE);
  expect(names()).toEqual([]);
  layer.show("seen", NONE, new Set(["arm"]));
  expect([skin("arm").transparent, skin("bed").transparent]).toEqual([true, false]);
  layer.show("through", NONE, NONE);
  expect(skin("bed").opacity).toBeLessThan(0.5);
  layer.paint(["arm"], 0xff0000);
  expect([skin("arm").color.getHex(), skin("arm").opacity]).toEqual([0xff0000, 1]);
  layer.paint(null);
  expect(skin("arm").color.getHex()).not.toBe(0xff0000);
});

test("bodies of a blob are cut out of its arrays one after the other", () => {
  const head = {
    bodies: [
      { name: "bed", joint: null, role: "bed", vertices: 3, triangles: 1 },
      { name: "head", joint: "Z", role: "head", vertices: 3, triangles: 1 },
    ],
  };
  const vertices = Float32Array.from({ length: 18 }, (_, i) => i);
  const found = bodiesOf({ head, arrays: { vertices, triangles: new Int32Array([0, 1, 2, 0, 2, 1]) } });
  expect([...found[1].vertices]).toEqual([9, 10, 11, 12, 13, 14, 15, 16, 17]);
  expect([...found[1].triangles]).toEqual([0, 2, 1]);
});
