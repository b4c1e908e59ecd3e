import * as THREE from "three";
import type { Vec3 } from "../api/types";
import type { Camera } from "./camera";
import { nearestEdge } from "./edges";
import type { PartLayer } from "./layers/part";

/** How near to a corner or an edge of the part, in pixels, a click is meant for it. */
const CATCH = 9;

export interface Hit {
  face: number;
  point: Vec3;
  /** The edge of the part that is near, if one is. */
  edge?: number | null;
}

const round = (value: number, parts: number) => Math.round(value * parts) / parts;

/** What lies under a point of the canvas (-1..1; its size in pixels), in the part's frame. */
export function pickPart(
  part: PartLayer,
  camera: Camera,
  size: THREE.Vector2,
  x: number,
  y: number,
): Hit | null {
  if (!part.shown) return null;
  const hit = part.hitBy(camera.rayAt(x, y));
  if (!hit || hit.faceIndex == null) return null;
  const point = hit.object.worldToLocal(hit.point.clone());
  const edge = nearestEdge(part.edges, hit, camera.lens, size, new THREE.Vector2(x, y), CATCH);
  return { face: part.faceOf(hit.faceIndex), point: [point.x, point.y, point.z], edge };
}

/** The place in the shown frame (X, Y, mm) under a point of the canvas: a corner of the part that is near, else
 * what is hit, else the plane at a height. */
export function pickPlace(
  part: PartLayer,
  camera: Camera,
  size: THREE.Vector2,
  x: number,
  y: number,
  height: number,
): [number, number] | null {
  let [nearest, best] = [null as THREE.Vector3 | null, CATCH];
  for (const corner of part.corners) {
    const there = corner.clone().applyMatrix4(part.node.matrix);
    const seen = there.clone().project(camera.lens);
    const away = Math.hypot(((seen.x - x) * size.x) / 2, ((seen.y - y) * size.y) / 2);
    if (away < best) [nearest, best] = [there, away];
  }
  if (nearest) return [round(nearest.x, 1000), round(nearest.y, 1000)];
  const ray = camera.rayAt(x, y);
  const plane = new THREE.Plane(new THREE.Vector3(0, 0, 1), -height);
  const hit = part.hitBy(ray)?.point ?? ray.ray.intersectPlane(plane, new THREE.Vector3());
  return hit ? [round(hit.x, 10), round(hit.y, 10)] : null;
}
