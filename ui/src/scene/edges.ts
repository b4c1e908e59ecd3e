import * as THREE from "three";

/**
 * The edge (id, from 1) whose line passes a point of the canvas (-1..1) within `reach` pixels, at the place that is hit there:
 * one that lies behind it, or far before it, is not meant. `edges` are in the frame of the object that is hit.
 */
export function nearestEdge(
  edges: THREE.Vector3[][],
  hit: THREE.Intersection,
  camera: THREE.PerspectiveCamera,
  size: THREE.Vector2,
  at: THREE.Vector2,
  reach: number,
): number | null {
  const frame = hit.object.matrixWorld;
  const half = size.clone().multiplyScalar(0.5);
  const seen = (p: THREE.Vector3) => {
    const there = p.clone().applyMatrix4(frame).project(camera);
    return new THREE.Vector2(there.x, there.y).multiply(half);
  };
  const here = at.clone().multiply(half);
  const local = hit.object.worldToLocal(hit.point.clone());
  const pixel = (2 * Math.tan(THREE.MathUtils.degToRad(camera.fov / 2)) * hit.distance) / size.y;
  const line = new THREE.Line3();
  const foot = new THREE.Vector3();
  let [nearest, best]: [number | null, number] = [null, reach];
  edges.forEach((points, i) => {
    for (let k = 0; k + 1 < points.length; k++) {
      line.set(points[k], points[k + 1]).closestPointToPoint(local, true, foot);
      if (foot.distanceTo(local) > 3 * reach * pixel) continue;
      const [a, b] = [seen(points[k]), seen(points[k + 1])];
      const way = b.clone().sub(a);
      const share = here.clone().sub(a).dot(way) / Math.max(way.lengthSq(), 1e-9);
      const away = a.addScaledVector(way, Math.min(1, Math.max(0, share))).distanceTo(here);
      if (away < best) [nearest, best] = [i + 1, away];
    }
  });
  return nearest;
}
