import * as THREE from "three";
import type { Blob } from "../../api/binary";
import { AXES, KINDS } from "../colours";
import { matrixOf, placeAt } from "../nodes";
import { Slot, type Stage } from "../stage";

/** A toolpath and the axes of the frame it is written in, a side's or the setup's own. */
export class PathLayer {
  private readonly side = new THREE.Group();
  private readonly path: Slot;
  private readonly axes: Slot;

  constructor(
    work: THREE.Object3D,
    private readonly stage: Stage,
  ) {
    work.add(this.side);
    [this.path, this.axes] = [new Slot(this.side, stage), new Slot(this.side, stage)];
  }

  dispose() {
    this.path.put(null);
    this.axes.put(null);
    this.side.removeFromParent();
  }

  set(blob: Blob | null) {
    this.path.put(blob && linesOf(blob));
  }

  /** The side whose path and axes are shown: 4 x 4 rows from it to the setup; null for the setup's own. */
  setSide(rows: number[][] | null) {
    placeAt(this.side, matrixOf(rows));
    this.stage.ask();
  }

  /** Axes of a length, mm: X red, Y green, Z blue. */
  setAxes(length: number) {
    const group = new THREE.Group();
    AXES.forEach((colour, i) => {
      const direction = new THREE.Vector3().setComponent(i, 1);
      const [head, width] = [length * 0.2, length * 0.09];
      const arrow = new THREE.ArrowHelper(direction, new THREE.Vector3(), length, colour, head, width);
      (arrow.line.material as THREE.LineBasicMaterial).depthTest = false;
      group.add(arrow);
    });
    this.axes.put(group);
  }
}

/** Rapids dashed, all else drawn through, coloured by the kind of move. */
function linesOf(blob: Blob): THREE.Group {
  const kind = blob.arrays.kind as Int8Array;
  const colours = new Float32Array(kind.length * 6);
  const feeding: number[] = [];
  const rapid: number[] = [];
  const colour = new THREE.Color();
  for (let i = 0; i < kind.length; i++) {
    colour.setHex(KINDS[kind[i]] ?? KINDS[1]);
    for (const o of [0, 3]) colour.toArray(colours, i * 6 + o);
    (kind[i] === 0 ? rapid : feeding).push(2 * i, 2 * i + 1);
  }
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(blob.arrays.pieces as Float32Array, 3));
  geometry.setAttribute("color", new THREE.BufferAttribute(colours, 3));
  const feeds = geometry.clone();
  feeds.setIndex(feeding);
  const rapids = geometry.clone();
  rapids.setIndex(rapid);
  const dashed = new THREE.LineSegments(
    rapids.toNonIndexed(),
    new THREE.LineDashedMaterial({ vertexColors: true, dashSize: 2, gapSize: 2 }),
  );
  dashed.computeLineDistances();
  const group = new THREE.Group();
  group.add(new THREE.LineSegments(feeds, new THREE.LineBasicMaterial({ vertexColors: true })), dashed);
  return group;
}
