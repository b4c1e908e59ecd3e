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

/** A machine's joints, parents before children, and where work and tool are held: 4 x 4 rows in machine
 * coordinates with all joints at zero. */
export interface Chain {
  joints: JointNode[];
  work: { joint: string | null; frame: number[][] };
  tool: { joint: string | null; frame: number[][] };
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
 * The view rides on the work: it stands still while the base and all else move about it. Without a machine,
 * work and tool hang at the base, and the tool is placed by its tip.
 */
export class NodeTree {
  readonly base = new THREE.Group();
  readonly work = new THREE.Group();
  readonly tool = new THREE.Group();
  private joints = new Map<string, { joint: JointNode; node: THREE.Group }>();

  constructor() {
    this.setChain(null);
  }

  setChain(chain: Chain | null) {
    for (const { node } of this.joints.values()) node.removeFromParent();
    this.joints = new Map();
    for (const joint of chain?.joints ?? []) {
      const node = new THREE.Group();
      this.nodeOf(joint.parent).add(node);
      this.joints.set(joint.name, { joint, node });
    }
    for (const end of ["work", "tool"] as const) {
      this.nodeOf(chain?.[end].joint ?? null).add(this[end]);
      placeAt(this[end], matrixOf(chain?.[end].frame ?? null));
    }
    this.setJoints({});
  }

  /** Moves the machine: positions by joint name, zero for those that are not named. */
  setJoints(values: Readonly<Record<string, number>>) {
    for (const [name, { joint, node }] of this.joints) {
      node.matrixAutoUpdate = false;
      moved(joint, values[name] ?? 0, node.matrix);
    }
    this.base.matrixAutoUpdate = false;
    this.base.matrix.identity();
    this.base.updateMatrixWorld(true);
    this.base.matrix.copy(this.work.matrixWorld).invert();
    this.base.updateMatrixWorld(true);
  }

  private nodeOf(name: string | null): THREE.Group {
    if (name === null) return this.base;
    const found = this.joints.get(name);
    if (!found) throw new Error(`There is no joint ${name} before this one.`);
    return found.node;
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
