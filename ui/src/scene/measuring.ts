import * as THREE from "three";
import type { Vec3 } from "../api/types";
import type { NodeTree } from "./nodes";

/** What carries a body: the work, the spindle, or a joint of the machine, null for its base. */
export type Carrier = { of: "work" | "tool" } | { of: "machine"; joint: string | null };

/** The axis of a round face: a place on it, its direction, and the radius of the face, mm. */
export interface Axis {
  at: Vec3;
  along: Vec3;
  radius: number;
}

/** Something that can be picked, by the name under which it is spoken of; `axisOf` gives the axis of a round face of
 * it in the frame of what was hit. */
export interface Pickable {
  body: string;
  carrier: Carrier;
  thing: THREE.Object3D;
  axisOf?: (hit: THREE.Intersection) => Axis | null;
}

/** A picked place on a body and the outward direction of its face there, in the frame of what carries it, mm; of a
 * round face its axis, `at` the foot of the place on it. */
export interface BodyPick {
  body: string;
  carrier: Carrier;
  point: Vec3;
  normal: Vec3;
  axis?: Axis;
}

/** From a first picked place to a second, in the directions of the program, mm. */
export interface Gap {
  way: Vec3;
  distance: number;
  /** How far the second lies out of the first face, or how far apart the first axis and the second are, square to
   * the axis; and that direction. */
  out: number;
  direction: Vec3;
}

/** Sine of the angle from which two axes are taken to be skew. */
const SKEW = 1e-6;

export function nodeOf(nodes: NodeTree, carrier: Carrier): THREE.Object3D {
  if (carrier.of !== "machine") return nodes[carrier.of];
  return nodes.nodeOf(nodes.has(carrier.joint) ? carrier.joint : null);
}

/** The nearest of some things under a ray. */
export function pickBody(ray: THREE.Raycaster, things: Pickable[], nodes: NodeTree): BodyPick | null {
  let best: { hit: THREE.Intersection; from: Pickable } | null = null;
  for (const from of things) {
    const hits = ray.intersectObject(from.thing).filter((h) => h.face && (h.object as THREE.Mesh).isMesh);
    if (hits.length && (!best || hits[0].distance < best.hit.distance)) best = { hit: hits[0], from };
  }
  if (!best) return null;
  const { hit, from } = best;
  const back = nodeOf(nodes, from.carrier).matrixWorld.clone().invert();
  const normal = hit.face!.normal.clone().transformDirection(hit.object.matrixWorld);
  if (normal.dot(ray.ray.direction) > 0) normal.negate();
  const round = from.axisOf?.(hit);
  const axis = round && { axis: footOn(round, hit, back) };
  return {
    body: from.body,
    carrier: from.carrier,
    point: hit.point.clone().applyMatrix4(back).toArray(),
    normal: normal.transformDirection(back).toArray(),
    ...axis,
  };
}

/** An axis, given in the frame of what was hit, in another that `back` leads to, with the foot of the place on it. */
function footOn({ at, along, radius }: Axis, hit: THREE.Intersection, back: THREE.Matrix4): Axis {
  const into = back.clone().multiply(hit.object.matrixWorld);
  const way = new THREE.Vector3(...along).transformDirection(into);
  const foot = new THREE.Vector3(...at).applyMatrix4(into);
  foot.addScaledVector(way, hit.point.clone().applyMatrix4(back).sub(foot).dot(way));
  return { at: foot.toArray(), along: way.toArray(), radius };
}

/** A pick as it is measured from: a round face by its axis or, like any other, where it was picked. */
export function measuredBy(pick: BodyPick, axes: boolean): BodyPick {
  const { axis, ...place } = pick;
  return axes && axis ? { ...pick, point: axis.at } : place;
}

/** Where a picked place lies now, and its direction, in the picture. */
function now(nodes: NodeTree, pick: BodyPick): [THREE.Vector3, THREE.Vector3, THREE.Vector3 | null] {
  const { matrixWorld } = nodeOf(nodes, pick.carrier);
  return [
    new THREE.Vector3(...pick.point).applyMatrix4(matrixWorld),
    new THREE.Vector3(...pick.normal).transformDirection(matrixWorld),
    pick.axis ? new THREE.Vector3(...pick.axis.along).transformDirection(matrixWorld) : null,
  ];
}

/** The direction, of length 1, in which a second place or axis is measured from a first. */
function measuredAlong(
  way: THREE.Vector3,
  normal: THREE.Vector3,
  a: THREE.Vector3 | null,
  b: THREE.Vector3 | null,
) {
  if (!a) return normal;
  const skew = b && new THREE.Vector3().crossVectors(a, b);
  const square = skew && skew.length() > SKEW ? skew : way.clone().addScaledVector(a, -way.dot(a));
  if (square.length() < 1e-9) return normal;
  return square.normalize().multiplyScalar(way.dot(square) < 0 ? -1 : 1);
}

/** What lies between two picked places while the machine stands as it does. */
export function gapBetween(nodes: NodeTree, first: BodyPick, second: BodyPick): Gap {
  const back = nodes.work.matrixWorld.clone().invert();
  const [[a, normal, along], [b, , other]] = [now(nodes, first), now(nodes, second)];
  const way = b.sub(a);
  const direction = measuredAlong(way, normal, along, other);
  const out = way.dot(direction);
  const distance = way.length();
  const turn = new THREE.Matrix3().setFromMatrix4(back);
  return {
    way: way.applyMatrix3(turn).toArray(),
    distance,
    out,
    direction: direction.clone().applyMatrix3(turn).toArray(),
  };
}

/** How far what stands on the table has to be moved for the second place to lie in the first face, in the
 * directions of the program; null where both are carried alike. */
export function takenOut(gap: Gap, first: BodyPick, second: BodyPick): Vec3 | null {
  const [a, b] = [first, second].map((p) => p.carrier.of === "work");
  if (a === b) return null;
  const share = a ? gap.out : -gap.out;
  return gap.direction.map((d) => Math.round(d * share * 1000) / 1000 + 0) as Vec3;
}

/** Dots at picked places and a line between two, where they are now. */
export class Ruler {
  readonly thing = new THREE.Group();
  private picks: BodyPick[] = [];
  private readonly geometry = new THREE.BufferGeometry();
  private readonly line: THREE.Line;
  /** Told what lies between the two places whenever that changes. */
  changed: ((gap: Gap | null) => void) | null = null;
  private last = "";

  constructor(
    private readonly nodes: NodeTree,
    color: number,
  ) {
    this.geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(6), 3));
    const look = { color, depthTest: false, transparent: true };
    const dots = new THREE.Points(
      this.geometry,
      new THREE.PointsMaterial({ ...look, size: 9, sizeAttenuation: false }),
    );
    this.line = new THREE.Line(this.geometry, new THREE.LineBasicMaterial(look));
    for (const thing of [dots, this.line]) {
      thing.renderOrder = 4;
      thing.frustumCulled = false;
      this.thing.add(thing);
    }
    this.set([]);
  }

  set(picks: BodyPick[]) {
    this.picks = picks;
    this.follow();
  }

  /** Goes along with what carries the picked places. */
  follow() {
    const { picks, nodes } = this;
    if (!picks.length && !this.thing.visible) return;
    this.thing.visible = picks.length > 0;
    const at = this.geometry.getAttribute("position") as THREE.BufferAttribute;
    picks.slice(0, 2).forEach((pick, i) => at.setXYZ(i, ...now(nodes, pick)[0].toArray()));
    at.needsUpdate = true;
    this.geometry.setDrawRange(0, Math.min(picks.length, 2));
    this.line.visible = picks.length === 2;
    const gap = picks.length === 2 ? gapBetween(nodes, picks[0], picks[1]) : null;
    const said = gap ? [...gap.way, gap.out].map((v) => v.toFixed(4)).join() : "";
    if (said === this.last) return;
    this.last = said;
    this.changed?.(gap);
  }

  dispose() {
    this.geometry.dispose();
  }
}
