import * as THREE from "three";
import { expect, test } from "vitest";
import { nearestEdge } from "./edges";

const camera = new THREE.PerspectiveCamera(32, 1, 0.1, 1000);
camera.up.set(0, 0, 1);
camera.position.set(0, 0, 100);
camera.lookAt(0, 0, 0);
camera.updateMatrixWorld();
const part = new THREE.Object3D();
const v = (x: number, y: number, z: number) => new THREE.Vector3(x, y, z);
/** Edge 1 on top along X at Y 10, edge 2 under it, edge 3 along Y at X 10. */
const edges = [
  [v(-10, 10, 0), v(10, 10, 0)],
  [v(-10, 10, -20), v(10, 10, -20)],
  [v(10, -10, 0), v(10, 10, 0)],
];
const size = new THREE.Vector2(800, 800);

function at(x: number, y: number) {
  const point = v(x, y, 0);
  const seen = point.clone().project(camera);
  const hit = { object: part, point, distance: camera.position.distanceTo(point) } as THREE.Intersection;
  return nearestEdge(edges, hit, camera, size, new THREE.Vector2(seen.x, seen.y), 9);
}

test("the edge beside a click is found, and none in the middle of a face", () => {
  expect(at(0, 9.8)).toBe(1);
  expect(at(9.8, 0)).toBe(3);
  expect(at(0, 0)).toBeNull();
});

test("one that lies far behind what is seen is not meant", () => {
  const behind = v(0, 10, -20).project(camera); // where edge 2 is seen
  const ray = new THREE.Raycaster();
  ray.setFromCamera(new THREE.Vector2(behind.x, behind.y), camera);
  const point = ray.ray.intersectPlane(new THREE.Plane(v(0, 0, 1), 0), v(0, 0, 0))!;
  const hit = { object: part, point, distance: 100 } as THREE.Intersection;
  expect(
    nearestEdge(edges.slice(1, 2), hit, camera, size, new THREE.Vector2(behind.x, behind.y), 9),
  ).toBeNull();
});
