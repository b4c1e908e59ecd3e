import * as THREE from "three";
import { describe, expect, test, vi } from "vitest";
import type { Blob } from "../../api/binary";
import type { Tool } from "../../api/types";
import { LIGHT } from "../colours";
import { Slot, type Stage } from "../stage";
import { DrawingLayer } from "./drawing";
import { FieldLayer } from "./field";
import { MarksLayer } from "./marks";
import { PartLayer } from "./part";
import { PathLayer } from "./path";
import { StockLayer } from "./stock";
import { ToolLayer } from "./tool";

const stage = () => ({ ask: vi.fn<() => void>(), colours: LIGHT }) satisfies Stage;
const blob = (arrays: Record<string, unknown>) => ({ meta: {}, arrays }) as unknown as Blob;

/** A unit square in the plane Z 0 as two faces of one triangle each, with its four edges. */
const SQUARE = blob({
  vertices: new Float32Array([0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0]),
  triangles: new Int32Array([0, 1, 2, 0, 2, 3]),
  face_starts: new Int32Array([0, 1, 2]),
  edge_points: new Float32Array([0, 0, 0, 1, 0, 0, 1, 0, 0, 1, 1, 0]),
  edge_counts: new Int32Array([2, 2]),
});

const down = (x: number, y: number) =>
  new THREE.Raycaster(new THREE.Vector3(x, y, 5), new THREE.Vector3(0, 0, -1));
const meshes = (node: THREE.Object3D) => {
  const found: THREE.Mesh[] = [];
  node.traverse((o) => o instanceof THREE.Mesh && found.push(o));
  return found;
};

describe("a slot", () => {
  test("holds one thing, frees the buffers of what it gives up, and asks for a picture", () => {
    const [node, on] = [new THREE.Group(), stage()];
    const slot = new Slot(node, on);
    const mesh = new THREE.Mesh(new THREE.BoxGeometry(), new THREE.MeshBasicMaterial());
    const freed = vi.spyOn(mesh.geometry, "dispose");
    const compiled = vi.spyOn(mesh.material, "dispose"); // its program serves the next of its kind
    slot.put(mesh);
    expect(node.children).toEqual([mesh]);
    slot.put(new THREE.Group());
    expect(node.children).toHaveLength(1);
    expect(freed).toHaveBeenCalledOnce();
    expect(compiled).not.toHaveBeenCalled();
    slot.put(null);
    expect(node.children).toHaveLength(0);
    expect(on.ask).toHaveBeenCalledTimes(3);
  });

  test("that is empty and stays so asks for nothing", () => {
    const on = stage();
    const slot = new Slot(new THREE.Group(), on);
    slot.put(null);
    slot.show(false);
    expect(on.ask).not.toHaveBeenCalled();
  });
});

describe("the part", () => {
  test("is hit where it lies, and tells which face", () => {
    const part = new PartLayer(new THREE.Group(), stage());
    part.set(SQUARE);
    part.setFrame([[1, 0, 0, 10], [0, 1, 0, 0], [0, 0, 1, 2], [0, 0, 0, 1]]); // prettier-ignore
    expect(part.hitBy(down(0.5, 0.2))).toBeUndefined();
    const hit = part.hitBy(down(10.8, 0.2))!;
    expect(hit.point.z).toBeCloseTo(2);
    expect(part.faceOf(hit.faceIndex!)).toBe(1);
    expect(part.faceOf(part.hitBy(down(10.2, 0.8))!.faceIndex!)).toBe(2);
  });

  test("stands once more at every shift but the first, and the copies are hit too", () => {
    const work = new THREE.Group();
    const part = new PartLayer(work, stage());
    part.set(SQUARE);
    const here = [[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]]; // prettier-ignore
    part.setCopies(here, [[0, 0, 0], [5, 0, 0], [0, 7, 0]]); // prettier-ignore
    work.updateMatrixWorld(true);
    const hit = part.hitBy(down(5.8, 0.2))!;
    expect(hit.object.worldToLocal(hit.point.clone()).x).toBeCloseTo(0.8);
    expect(part.hitBy(down(0.2, 7.8))).toBeDefined();
    part.show(false);
    expect(part.things.every((thing) => !thing.visible)).toBe(true);
    part.set(null); // the copies' geometry is the part's: they go with it
    expect(part.things).toHaveLength(0);
  });

  test("knows its edges and their ends, and forgets them with the part", () => {
    const part = new PartLayer(new THREE.Group(), stage());
    part.set(SQUARE);
    expect(part.edges.map((points) => points.length)).toEqual([2, 2]);
    const ends = part.corners.map((c) => c.toArray());
    expect(ends).toEqual([[0, 0, 0], [1, 0, 0], [1, 0, 0], [1, 1, 0]]); // prettier-ignore
    part.set(null);
    expect([part.edges, part.corners, part.shown]).toEqual([[], [], false]);
  });

  test("gives the triangles of faces, and of none that do not exist", () => {
    const part = new PartLayer(new THREE.Group(), stage());
    expect(part.trianglesOf([1])).toBeNull();
    part.set(SQUARE);
    expect(Array.from(part.trianglesOf([2])!)).toEqual([0, 0, 0, 1, 1, 0, 0, 1, 0]);
    expect(part.trianglesOf([1, 2])).toHaveLength(18);
    expect(part.trianglesOf([0, 3, 99])).toHaveLength(0);
    expect(part.trianglesOf([])).toBeNull();
  });
});

describe("marks", () => {
  test("colour picked faces, draw picked edges, dot points and join two of them", () => {
    const part = new PartLayer(new THREE.Group(), stage());
    part.set(SQUARE);
    const before = part.node.children.length;
    const marks = new MarksLayer(part, stage());
    marks.setHovered(2);
    marks.setPicked([1], [2], [[0, 0, 0], [1, 1, 0]]); // prettier-ignore
    expect(part.node.children).toHaveLength(before + 4);
    const lines: string[] = [];
    part.node.traverse((o) => (o.type === "Line" || o.type === "Points") && lines.push(o.type));
    expect(lines.sort()).toEqual(["Line", "Points"]);
    marks.showFaces(false);
    expect(part.node.children.filter((c) => !c.visible)).toHaveLength(2);
    marks.setHovered(null);
    marks.setPicked([], [99], []);
    expect(part.node.children).toHaveLength(before);
  });
});

describe("the stock", () => {
  test("is a box about its middle, or nothing", () => {
    const work = new THREE.Group();
    const stock = new StockLayer(work, stage());
    stock.setBox([-10, 0, 5], [10, 8, 9]);
    const box = new THREE.Box3().setFromObject(work);
    expect([box.min.toArray(), box.max.toArray()]).toEqual([[-10, 0, 5], [10, 8, 9]]); // prettier-ignore
    stock.setBox(null, [1, 1, 1]);
    expect(stock.things).toHaveLength(0);
  });

  test("of quads has two triangles each, coloured by deviation only where a scale is given", () => {
    const stock = new StockLayer(new THREE.Group(), stage());
    const left = blob({
      vertices: SQUARE.arrays.vertices,
      quads: new Int32Array([0, 1, 2, 3]),
      deviation: new Float32Array([0, 0.3, -0.3, 0]),
    });
    stock.setLeft(left, null);
    const plain = stock.things[0] as THREE.Mesh;
    expect(Array.from(plain.geometry.getIndex()!.array)).toEqual([0, 1, 2, 0, 2, 3]);
    expect(plain.geometry.getAttribute("color")).toBeUndefined();
    stock.setLeft(left, 0.3);
    const coloured = stock.things[0] as THREE.Mesh;
    const colours = coloured.geometry.getAttribute("color") as THREE.BufferAttribute;
    const at = (i: number) => new THREE.Color().fromBufferAttribute(colours, i);
    expect(at(0).equals(at(3))).toBe(true); // on size
    expect(at(1).r).toBeGreaterThan(at(1).b); // leftover: ochre
    expect(at(2).b).toBeGreaterThan(at(2).g); // overcut: violet
  });
});

describe("the path", () => {
  const moves = blob({
    pieces: new Float32Array([0, 0, 9, 0, 0, 0, 0, 0, 0, 5, 0, 0, 5, 0, 0, 5, 0, 9]),
    kind: new Int8Array([0, 1, 0]),
  });

  test("draws rapids dashed and all else through", () => {
    const work = new THREE.Group();
    const path = new PathLayer(work, stage());
    path.set(moves);
    const dashed: number[] = [];
    work.traverse((o) => {
      if (!(o instanceof THREE.LineSegments)) return;
      const { geometry, material } = o;
      const points = geometry.getIndex()?.count ?? geometry.getAttribute("position").count;
      dashed.push((material as THREE.Material).type === "LineDashedMaterial" ? points : -points);
    });
    expect(dashed.sort((a, b) => a - b)).toEqual([-2, 4]);
  });

  test("and its axes lie in the side that is shown, also when the side changes later", () => {
    const work = new THREE.Group();
    const path = new PathLayer(work, stage());
    path.set(moves);
    path.setAxes(20);
    path.setSide([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 30], [0, 0, 0, 1]]); // prettier-ignore
    work.updateMatrixWorld(true);
    const box = new THREE.Box3().setFromObject(work.children[0].children[0]);
    expect(box.min.y).toBeCloseTo(-9); // up in the side is -Y in the setup
    expect(box.max.z).toBeCloseTo(30);
    path.setSide(null);
    expect(work.children[0].matrix.elements).toEqual(new THREE.Matrix4().elements);
  });
});

describe("the tool", () => {
  const TOOL = {
    number: 1,
    kind: "flat",
    diameter: 10,
    corner_radius: 0,
    flute_length: 20,
    shank_diameter: 8,
    stick_out: 35,
    holder: [{ length: 30, diameter_low: 30, diameter_high: 40 }],
  } as unknown as Tool;

  test("is as long as cutter, shank and holder, and stands on its tip", () => {
    const node = new THREE.Group();
    node.matrixAutoUpdate = false;
    const tool = new ToolLayer(node, stage());
    tool.set(TOOL);
    tool.place([100, 50, -3]);
    const box = new THREE.Box3().setFromObject(node);
    expect(box.min.z).toBeCloseTo(-3);
    expect(box.max.z).toBeCloseTo(62);
    expect(box.max.x - box.min.x).toBeCloseTo(40);
    expect(meshes(node)).toHaveLength(3);
  });

  test("lies along its axis", () => {
    const node = new THREE.Group();
    node.matrixAutoUpdate = false;
    const tool = new ToolLayer(node, stage());
    tool.set(TOOL);
    tool.place([0, 0, 0], [0, -1, 0]);
    const box = new THREE.Box3().setFromObject(node);
    expect(box.min.y).toBeCloseTo(-65);
    expect(box.max.y).toBeCloseTo(0);
    tool.set(null);
    expect(node.children).toHaveLength(0);
  });

  test("has one part painted, also when the tool is put in anew, and its own colours after", () => {
    const node = new THREE.Group();
    const tool = new ToolLayer(node, stage());
    const colours = () => meshes(node).map((m) => (m.material as THREE.MeshStandardMaterial).color.getHex());
    tool.set(TOOL);
    const plain = colours();
    tool.paint("holder", 0xb5302a);
    expect(colours()).toEqual([plain[0], plain[1], 0xb5302a]);
    tool.set({ ...TOOL });
    expect(colours()).toEqual([plain[0], plain[1], 0xb5302a]);
    tool.paint(null);
    expect(colours()).toEqual(plain);
  });

  test("without a shank of its own has none drawn", () => {
    const node = new THREE.Group();
    new ToolLayer(node, stage()).set({ ...TOOL, stick_out: 20, holder: [] } as Tool);
    expect(meshes(node)).toHaveLength(1);
  });
});

describe("what is drawn", () => {
  test("is a closed line with a dot at every corner, at a height", () => {
    const work = new THREE.Group();
    const drawing = new DrawingLayer(work, stage());
    drawing.setArea([[0, 0], [4, 0], [4, 3]], 7); // prettier-ignore
    const box = new THREE.Box3().setFromObject(work);
    expect([box.min.toArray(), box.max.toArray()]).toEqual([[0, 0, 7], [4, 3, 7]]); // prettier-ignore
    drawing.setArea([], 2);
    expect(work.children).toHaveLength(0);
    expect(drawing.height).toBe(2);
    drawing.setPlace([1, 2, 3]);
    expect(work.children).toHaveLength(1);
  });
});

describe("the height field", () => {
  test("is drawn at its heights, and again after they have changed", () => {
    const work = new THREE.Group();
    const layer = new FieldLayer(work, stage());
    const heights = new Float32Array([1, 2, 3, 4, 5, 6]);
    layer.set({ nx: 3, ny: 2, x0: 10, y0: 20, cell: 0.5, heights } as never);
    const points = () => Array.from(meshes(work)[0].geometry.getAttribute("position").array);
    expect(points().slice(0, 6)).toEqual([10, 20, 1, 10.5, 20, 2]);
    expect(meshes(work)[0].geometry.getIndex()!.count).toBe(12); // two cells of two triangles
    heights[0] = -4;
    layer.draw();
    expect(points()[2]).toBe(-4);
    layer.set(null);
    layer.draw();
    expect(work.children).toHaveLength(0);
  });
});
