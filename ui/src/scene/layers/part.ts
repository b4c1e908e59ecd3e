import * as THREE from "three";
import { acceleratedRaycast, MeshBVH } from "three-mesh-bvh";
import type { Blob } from "../../api/binary";
import type { Vec3 } from "../../api/types";
import { matrixOf, placeAt } from "../nodes";
import { Slot, type Stage } from "../stage";

THREE.Mesh.prototype.raycast = acceleratedRaycast;

/** The part with its edges, and its copies where a setup holds several. */
export class PartLayer {
  /** Everything that is in the part's frame. */
  readonly node = new THREE.Group();
  /** Ends of edges and points of every edge, in the part's frame. */
  corners: THREE.Vector3[] = [];
  edges: THREE.Vector3[][] = [];
  private readonly slot: Slot;
  private body: THREE.Mesh | null = null;
  private copies: THREE.Group | null = null;
  private faceStarts: Int32Array = new Int32Array();

  constructor(
    private readonly work: THREE.Object3D,
    private readonly stage: Stage,
  ) {
    work.add(this.node);
    this.slot = new Slot(this.node, stage);
  }

  set(blob: Blob | null) {
    this.setCopies(null, []);
    this.body = null;
    this.corners = [];
    this.edges = [];
    if (!blob) return this.slot.put(null);
    this.body = this.bodyOf(blob);
    this.faceStarts = blob.arrays.face_starts as Int32Array;
    const group = new THREE.Group();
    group.add(this.body, this.edgesOf(blob));
    this.slot.put(group);
  }

  dispose() {
    this.set(null);
    this.node.removeFromParent();
  }

  /** Places the part: 4 x 4 rows from part to the shown frame, null for the part's own. */
  setFrame(rows: number[][] | null) {
    placeAt(this.node, matrixOf(rows));
    this.stage.ask();
  }

  /** Shows the part once more at every shift but the first, which is its own place. */
  setCopies(rows: number[][] | null, shifts: Vec3[]) {
    this.copies?.removeFromParent(); // their geometry is the part's
    this.copies = null;
    this.stage.ask();
    const one = this.slot.thing;
    if (!one || !rows || shifts.length < 2) return;
    this.copies = new THREE.Group();
    this.copies.visible = one.visible;
    this.work.add(this.copies);
    for (const shift of shifts.slice(1)) {
      const copy = one.clone();
      this.copies.add(copy);
      placeAt(copy, new THREE.Matrix4().makeTranslation(...shift).multiply(matrixOf(rows)));
    }
  }

  show(visible: boolean) {
    this.slot.show(visible);
    if (this.copies) this.copies.visible = visible;
    this.stage.ask();
  }

  get shown(): boolean {
    return !!this.slot.thing?.visible;
  }

  /** What there is to look at. */
  get things(): THREE.Object3D[] {
    return [this.slot.thing, this.copies].filter((thing) => thing !== null);
  }

  /** Where a ray meets the part or one of its copies first. */
  hitBy(ray: THREE.Raycaster): THREE.Intersection | undefined {
    const copies = this.copies?.children.map((copy) => copy.children[0]) ?? [];
    return this.body ? ray.intersectObjects([this.body, ...copies], false)[0] : undefined;
  }

  /** The face (from 1) that a triangle belongs to. */
  faceOf(triangle: number): number {
    let low = 0;
    let high = this.faceStarts.length - 1;
    while (high - low > 1) {
      const mid = (low + high) >> 1;
      if (this.faceStarts[mid] <= triangle) low = mid;
      else high = mid;
    }
    return low + 1;
  }

  /** The triangles of faces (from 1), nine coordinates each; null where there are none. */
  trianglesOf(faces: number[]): Float32Array | null {
    if (!this.body || faces.length === 0) return null;
    const source = this.body.geometry.getAttribute("position").array as Float32Array;
    const pieces = faces
      .filter((f) => f >= 1 && f < this.faceStarts.length)
      .map((f) => source.subarray(this.faceStarts[f - 1] * 9, this.faceStarts[f] * 9));
    const all = new Float32Array(pieces.reduce((n, p) => n + p.length, 0));
    let at = 0;
    for (const piece of pieces) {
      all.set(piece, at);
      at += piece.length;
    }
    return all;
  }

  private bodyOf(blob: Blob): THREE.Mesh {
    const shared = new THREE.BufferGeometry();
    shared.setAttribute("position", new THREE.BufferAttribute(blob.arrays.vertices, 3));
    shared.setIndex(new THREE.BufferAttribute(new Uint32Array(blob.arrays.triangles), 1));
    const faceted = shared.toNonIndexed();
    faceted.computeVertexNormals();
    faceted.boundsTree = new MeshBVH(faceted, { indirect: true });
    const skin = new THREE.MeshStandardMaterial({
      color: this.stage.colours.part,
      roughness: 0.75,
      metalness: 0.1,
      polygonOffset: true,
      polygonOffsetFactor: 1,
      polygonOffsetUnits: 1,
    });
    return new THREE.Mesh(faceted, skin);
  }

  private edgesOf(blob: Blob): THREE.LineSegments {
    const points = blob.arrays.edge_points as Float32Array;
    const index: number[] = [];
    let at = 0;
    const point = (i: number) => new THREE.Vector3().fromArray(points, 3 * i);
    for (const count of blob.arrays.edge_counts as Int32Array) {
      const first = at;
      for (let i = 0; i + 1 < count; i++) index.push(first + i, first + i + 1);
      this.edges.push(Array.from({ length: count }, (_, i) => point(first + i)));
      this.corners.push(point(first), point(first + count - 1));
      at += count;
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
    geometry.setIndex(index);
    return new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: this.stage.colours.edge }));
  }
}
