import * as THREE from "three";
import { expect, test, vi } from "vitest";
import type { Blob } from "../api/binary";
import type { Vec3 } from "../api/types";
import { Camera } from "./camera";
import { LIGHT } from "./colours";
import { PartLayer } from "./layers/part";
import { pickPart, pickPlace } from "./picking";

const SIZE = new THREE.Vector2(800, 600);
const SQUARE = {
  meta: {},
  arrays: {
    vertices: new Float32Array([0, 0, 0, 40, 0, 0, 40, 40, 0, 0, 40, 0]),
    triangles: new Int32Array([0, 1, 2, 0, 2, 3]),
    face_starts: new Int32Array([0, 1, 2]),
    edge_points: new Float32Array([0, 0, 0, 40, 0, 0, 40, 0, 0, 40, 40, 0]),
    edge_counts: new Int32Array([2, 2]),
  },
} as unknown as Blob;

function looking(from: Vec3) {
  const work = new THREE.Group();
  const part = new PartLayer(work, { ask: () => undefined, colours: LIGHT });
  part.set(SQUARE);
  work.updateMatrixWorld(true);
  const camera = new Camera(document.createElement("canvas"), vi.fn());
  camera.resize(SIZE.x, SIZE.y);
  camera.look(from, new THREE.Box3().setFromObject(work));
  camera.lens.updateMatrixWorld(true);
  const seen = (x: number, y: number, z: number) => {
    const at = new THREE.Vector3(x, y, z).project(camera.lens);
    return [at.x, at.y] as const;
  };
  return { part, camera, seen };
}

test.each([[[1, -1.35, 0.95]], [[0, 0, 1]], [[0, -1, 0.02]], [[1, 0, 0.02]], [[0, 0, -1]]] as [Vec3][])(
  "from %j everything lies within the picture, and fills a good part of it",
  (from) => {
    const { seen } = looking(from);
    const corners = [[0, 0], [40, 0], [40, 40], [0, 40]].map(([x, y]) => seen(x, y, 0)); // prettier-ignore
    const most = Math.max(...corners.flat().map(Math.abs));
    expect(most).toBeLessThan(1);
    expect(most).toBeGreaterThan(0.5);
  },
);

test("a click tells face and place on the part, and nothing beside it", () => {
  const { part, camera, seen } = looking([0.4, -0.6, 1]);
  const hit = pickPart(part, camera, SIZE, ...seen(25, 10, 0))!;
  expect(hit.face).toBe(1);
  expect(hit.point.map((v) => Math.round(v * 1e3) / 1e3 + 0)).toEqual([25, 10, 0]);
  expect(pickPart(part, camera, SIZE, ...seen(12, 30, 0))!.face).toBe(2);
  expect(pickPart(part, camera, SIZE, ...seen(60, 10, 0))).toBeNull();
});

test("a click near an edge means it too", () => {
  const { part, camera, seen } = looking([0, 0, 1]);
  expect(pickPart(part, camera, SIZE, ...seen(39.8, 20, 0))!.edge).toBe(2);
  expect(pickPart(part, camera, SIZE, ...seen(20, 15, 0))!.edge).toBeNull();
});

test("a part that is not shown is not picked", () => {
  const { part, camera, seen } = looking([0, 0, 1]);
  part.show(false);
  expect(pickPart(part, camera, SIZE, ...seen(25, 10, 0))).toBeNull();
});

test("an area's corner snaps to one of the part's, else to what is hit, else to its plane", () => {
  const { part, camera, seen } = looking([0, 0, 1]);
  expect(pickPlace(part, camera, SIZE, ...seen(39.7, 0.2, 0), 0)).toEqual([40, 0]);
  expect(pickPlace(part, camera, SIZE, ...seen(20.04, 15.02, 0), 0)).toEqual([20, 15]);
  expect(pickPlace(part, camera, SIZE, ...seen(55.02, -8.04, 6), 6)).toEqual([55, -8]);
});
