import * as THREE from "three";
import type { Blob } from "../../api/binary";
import { AXES } from "../colours";
import { matrixOf, placeAt } from "../nodes";
import { pathColours, type Coloured, type PathColour } from "../pathColours";
import { Slot, type Stage } from "../stage";

/** A toolpath and the axes of the frame it is written in, a side's or the setup's own. */
export class PathLayer {
  private readonly side = new THREE.Group();
  private readonly path: Slot;
  private readonly axes: Slot;
  private readonly quiet: Slot;

  constructor(
    work: THREE.Object3D,
    private readonly stage: Stage,
  ) {
    work.add(this.side);
    [this.path, this.axes] = [new Slot(this.side, stage), new Slot(this.side, stage)];
    this.quiet = new Slot(work, stage);
  }

  dispose() {
    this.path.put(null);
    this.quiet.put(null);
    this.axes.put(null);
    this.side.removeFromParent();
  }

  /** Draws a path strongly; gives the ends of its scale. */
  set(blob: Blob | null, by: PathColour = "kind"): [number, number] | null {
    const coloured = blob && pathColours(blob, by);
    this.path.put(blob && coloured && linesOf(blob, coloured));
    return coloured && coloured.high > -Infinity ? [coloured.low, coloured.high] : null;
  }

  /** Draws other paths quietly, each in its side (4 x 4 rows to the setup; null for the setup's own). */
  setQuiet(paths: { blob: Blob; side: number[][] | null }[]) {
    const group = new THREE.Group();
    for (const { blob, side } of paths) {
      const lines = quietLines(blob, this.stage.colours.picked);
      placeAt(lines, matrixOf(side));
      group.add(lines);
    }
    this.quiet.put(paths.length ? group : null);
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

/** Rapids dashed, all else drawn through. */
function linesOf(blob: Blob, { colours, rapid }: Coloured): THREE.Group {
  const paint = new Uint8Array(colours.length * 2);
  const feeding: number[] = [];
  const dashed: number[] = [];
  for (let i = 0; i < rapid.length; i++) {
    const own = colours.subarray(3 * i, 3 * i + 3);
    paint.set(own, 6 * i);
    paint.set(own, 6 * i + 3);
    (rapid[i] ? dashed : feeding).push(2 * i, 2 * i + 1);
  }
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(blob.arrays.pieces as Float32Array, 3));
  geometry.setAttribute("color", new THREE.BufferAttribute(paint, 3, true));
  const feeds = geometry.clone();
  feeds.setIndex(feeding);
  const rapids = geometry.clone();
  rapids.setIndex(dashed);
  const strokes = new THREE.LineSegments(
    rapids.toNonIndexed(),
    new THREE.LineDashedMaterial({ vertexColors: true, dashSize: 2, gapSize: 2 }),
  );
  strokes.computeLineDistances();
  const group = new THREE.Group();
  group.add(new THREE.LineSegments(feeds, new THREE.LineBasicMaterial({ vertexColors: true })), strokes);
  return group;
}

/** The cutting moves of a path that is not the chosen one. */
function quietLines(blob: Blob, colour: number): THREE.LineSegments {
  const kind = blob.arrays.kind as Int8Array;
  const index: number[] = [];
  for (let i = 0; i < kind.length; i++) if (kind[i] !== 0) index.push(2 * i, 2 * i + 1);
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(blob.arrays.pieces as Float32Array, 3));
  geometry.setIndex(index);
  const look = { color: colour, transparent: true, opacity: 0.28, depthWrite: false };
  return new THREE.LineSegments(geometry, new THREE.LineBasicMaterial(look));
}
