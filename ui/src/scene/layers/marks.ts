import * as THREE from "three";
import { Line2 } from "three/examples/jsm/lines/Line2.js";
import { LineGeometry } from "three/examples/jsm/lines/LineGeometry.js";
import { LineMaterial } from "three/examples/jsm/lines/LineMaterial.js";
import type { Vec3 } from "../../api/types";
import { DRAWN } from "../colours";
import { Slot, type Stage } from "../stage";
import type { PartLayer } from "./part";

/** Drawn after the colour of what is picked. */
const OVER = 3;
/** What keeps a tool out. */
const OUT = 0x9c2b20;

/** What is picked on the part, and what the pointer is over. */
export class MarksLayer {
  private readonly hovered: Slot;
  private readonly picked: Slot;
  private readonly edges: Slot;
  private readonly points: Slot;
  private readonly kept: Slot;
  private readonly face: Slot;

  constructor(
    private readonly part: PartLayer,
    private readonly stage: Stage,
  ) {
    const slot = () => new Slot(part.node, stage);
    [this.hovered, this.picked, this.edges, this.points] = [slot(), slot(), slot(), slot()];
    [this.kept, this.face] = [slot(), slot()];
  }

  dispose() {
    for (const slot of [this.hovered, this.picked, this.edges, this.points, this.kept, this.face])
      slot.put(null);
  }

  setHovered(face: number | null) {
    this.hovered.put(this.coloured(face ? [face] : [], this.stage.colours.hover, 0.55));
  }

  /** Faces and edges (from 1) and points of the part that are picked. */
  setPicked(faces: number[], edges: number[], points: Vec3[]) {
    this.picked.put(this.coloured(faces, this.stage.colours.picked, 0.85));
    this.edges.put(this.thick(edges));
    this.points.put(dots(points));
  }

  /** Edges (from 1) about what keeps a tool in, and out. */
  setKept(inside: number[], outside: number[]) {
    const group = new THREE.Group();
    for (const lines of [this.thick(inside, DRAWN, 2), this.thick(outside, OUT, 2)])
      if (lines) group.add(lines);
    this.kept.put(group.children.length ? group : null);
  }

  /** One face (from 1) that a place lies on, over whatever stands there. */
  setFace(face: number | null) {
    const shown = this.coloured(face ? [face] : [], this.stage.colours.picked, 0.55);
    if (shown) {
      const skin = shown.material as THREE.MeshStandardMaterial;
      skin.polygonOffset = true;
      skin.polygonOffsetFactor = skin.polygonOffsetUnits = -4;
      skin.depthWrite = false;
    }
    this.face.put(shown);
  }

  /** Shows or hides the colour on faces. */
  showFaces(visible: boolean) {
    this.hovered.show(visible);
    this.picked.show(visible);
  }

  private coloured(faces: number[], color: number, opacity: number): THREE.Mesh | null {
    const triangles = this.part.trianglesOf(faces);
    if (!triangles) return null;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(triangles, 3));
    geometry.computeVertexNormals();
    const skin = new THREE.MeshStandardMaterial({ color, roughness: 0.8, transparent: true, opacity });
    return new THREE.Mesh(geometry, skin);
  }

  private thick(ids: number[], color = DRAWN, linewidth = 3): THREE.Group | null {
    const found = ids.flatMap((id) => (this.part.edges[id - 1] ? [this.part.edges[id - 1]] : []));
    if (found.length === 0) return null;
    const group = new THREE.Group();
    const material = new LineMaterial({ color, linewidth, depthTest: false, transparent: true });
    for (const points of found) {
      const line = new Line2(new LineGeometry().setFromPoints(points), material);
      line.renderOrder = OVER;
      group.add(line);
    }
    return group;
  }
}

/** Dots at points, a line between two. */
function dots(points: Vec3[]): THREE.Group | null {
  if (points.length === 0) return null;
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(points.flat()), 3));
  const look = { color: DRAWN, depthTest: false };
  const marks = new THREE.Points(
    geometry,
    new THREE.PointsMaterial({ ...look, size: 9, sizeAttenuation: false, transparent: true }),
  );
  marks.renderOrder = OVER;
  const group = new THREE.Group();
  group.add(marks);
  if (points.length === 2) group.add(new THREE.Line(geometry.clone(), new THREE.LineBasicMaterial(look)));
  return group;
}
