import * as THREE from "three";
import type { Vec3 } from "../api/types";

/** A joint moves its children along its axis (mm) or about it through its point (degrees, right-handed). */
export interface JointNode {
  name: string;
  kind: "linear" | "rotary";
  axis: Vec3;
  point: Vec3;
  parent: string | null;
}

/** A machine's joints, parents before children, and where work and tool are held, in machine coordinates with
 * all joints at zero. */
export interface Chain {
  joints: JointNode[];
  work: { joint: string | null; frame: THREE.Matrix4 };
  tool: { joint: string | null; frame: THREE.Matrix4 };
}

/** Where work or tool sit on a joint: the origin and the directions of Z and X, in machine coordinates. */
export interface Mount {
  at?: Vec3;
  z?: Vec3;
  x?: Vec3 | null;
}

/** A mount as rows of a 4 x 4 matrix; without a direction its X is the machine's, square to Z. */
export function frameOf({ at, z, x }: Mount): THREE.Matrix4 {
  const up = new THREE.Vector3(...(z ?? [0, 0, 1])).normalize();
  const first = Math.abs(up.x) < 0.9 ? new THREE.Vector3(1, 0, 0) : new THREE.Vector3(0, 1, 0);
  const along = x ? new THREE.Vector3(...x) : first;
  along.addScaledVector(up, -along.dot(up)).normalize();
  const across = new THREE.Vector3().crossVectors(up, along);
  const frame = new THREE.Matrix4().makeBasis(along, across, up);
  return frame.setPosition(new THREE.Vector3(...(at ?? [0, 0, 0])));
}

/** Rows of a 4 x 4 matrix as three.js has it. */
export function matrixOf(rows: number[][] | null): THREE.Matrix4 {
  const matrix = new THREE.Matrix4();
  if (rows) matrix.set(...(rows.flat() as Parameters<THREE.Matrix4["set"]>));
  return matrix;
}

/** Places a node by a matrix, once and for all below it. */
export function placeAt(node: THREE.Object3D, matrix: THREE.Matrix4) {
  node.matrixAutoUpdate = false;
  node.matrix.copy(matrix);
  node.updateMatrixWorld(true);
}

/**
 * The one tree of nodes: base → joints → {work: fixture, stock, part, path; tool: holder, cutter}.
 *
 * The view rides on the work: it stands still while the base and all else move about it. Standing beside the
 * machine, the base stands still where it is with all joints at zero, or, with a place of the work that is held,
 * goes along so that this place stays where it is and the work turns about it. Without a machine, work and tool hang
 * at the base, and the tool is placed by its tip.
 */
export class NodeTree {
  readonly base = new THREE.Group();
  readonly work = new THREE.Group();
  readonly tool = new THREE.Group();
  private joints = new Map<string, { joint: JointNode; node: THREE.Group }>();
  private standing = false;
  private held: THREE.Vector3 | null = null;

  constructor() {
    this.setChain(null);
  }

  setChain(chain: Chain | null, standing = false, held: Vec3 | null = null) {
    this.standing = standing;
    this.held = held && new THREE.Vector3(...held);
    for (const { node } of this.joints.values()) node.removeFromParent();
    this.joints = new Map();
    for (const joint of chain?.joints ?? []) {
      const node = new THREE.Group();
      this.nodeOf(joint.parent).add(node);
      this.joints.set(joint.name, { joint, node });
    }
    for (const end of ["work", "tool"] as const) {
      this.nodeOf(chain?.[end].joint ?? null).add(this[end]);
      placeAt(this[end], chain?.[end].frame ?? new THREE.Matrix4());
    }
    this.setJoints({});
  }

  /** Moves the machine: positions by joint name, zero for those that are not named. */
  setJoints(values: Readonly<Record<string, number>>) {
    if (this.standing) this.put({});
    else this.put(values);
    this.base.matrixAutoUpdate = false;
    this.base.matrix.identity();
    this.base.updateMatrixWorld(true);
    this.base.matrix.copy(this.work.matrixWorld).invert();
    if (this.standing) this.put(values);
    this.base.updateMatrixWorld(true);
    if (!this.held) return;
    const off = this.held.clone().sub(this.work.localToWorld(this.held.clone()));
    this.base.matrix.premultiply(new THREE.Matrix4().makeTranslation(off));
    this.base.updateMatrixWorld(true);
  }

  /** Whether the work turns in the picture. */
  get turns(): boolean {
    return this.held !== null;
  }

  /** Whether there is a joint of this name, or none is asked for. */
  has(name: string | null): boolean {
    return name === null || this.joints.has(name);
  }

  /** The node of a joint, or the base. */
  nodeOf(name: string | null): THREE.Group {
    if (name === null) return this.base;
    const found = this.joints.get(name);
    if (!found) throw new Error(`There is no joint ${name} before this one.`);
    return found.node;
  }

  private put(values: Readonly<Record<string, number>>) {
    for (const [name, { joint, node }] of this.joints) {
      node.matrixAutoUpdate = false;
      moved(joint, values[name] ?? 0, node.matrix);
    }
  }
}

function moved(joint: JointNode, value: number, out: THREE.Matrix4) {
  const axis = new THREE.Vector3(...joint.axis).normalize();
  if (joint.kind === "linear") {
    out.makeTranslation(axis.multiplyScalar(value));
    return;
  }
  const point = new THREE.Vector3(...joint.point);
  const back = new THREE.Matrix4().makeTranslation(point.clone().negate());
  out.makeRotationAxis(axis, THREE.MathUtils.degToRad(value)).multiply(back);
  out.premultiply(new THREE.Matrix4().makeTranslation(point));
}
