import * as THREE from "three";
import type { Vec3 } from "../../api/types";
import { DRAWN } from "../colours";
import { Slot, type Stage } from "../stage";

const PLACE = 0x9c2b20;

/** An area that is being drawn, and a place that a finding points to. */
export class DrawingLayer {
  /** The height on which an area is drawn, mm. */
  height = 0;
  private readonly area: Slot;
  private readonly spot: Slot;
  private readonly kept: Slot;

  constructor(work: THREE.Object3D, stage: Stage) {
    const slot = () => new Slot(work, stage);
    [this.area, this.spot, this.kept] = [slot(), slot(), slot()];
  }

  dispose() {
    this.area.put(null);
    this.spot.put(null);
    this.kept.put(null);
  }

  /** Closed lines (mm, shown frame) that keep a tool in, drawn through, or out, dashed. */
  setKept(lines: { points: Vec3[]; out: boolean }[]) {
    const group = new THREE.Group();
    for (const { points, out } of lines) {
      const closed = points.map((p) => new THREE.Vector3(...p));
      const geometry = new THREE.BufferGeometry().setFromPoints([...closed, closed[0]]);
      const look = { color: out ? PLACE : DRAWN, depthTest: false, transparent: true };
      const line = new THREE.Line(
        geometry,
        out
          ? new THREE.LineDashedMaterial({ ...look, dashSize: 3, gapSize: 2 })
          : new THREE.LineBasicMaterial(look),
      );
      line.computeLineDistances();
      line.renderOrder = 3;
      group.add(line);
    }
    this.kept.put(lines.length ? group : null);
  }

  /** The corners of an area (mm, shown frame) and the lines between them, at a height. */
  setArea(corners: [number, number][], height: number) {
    this.height = height;
    if (corners.length === 0) return this.area.put(null);
    const geometry = new THREE.BufferGeometry().setFromPoints(
      corners.map(([x, y]) => new THREE.Vector3(x, y, height)),
    );
    const look = { color: DRAWN, depthTest: false };
    const group = new THREE.Group();
    group.add(
      new THREE.LineLoop(geometry, new THREE.LineBasicMaterial(look)),
      new THREE.Points(
        geometry.clone(),
        new THREE.PointsMaterial({ ...look, size: 8, sizeAttenuation: false }),
      ),
    );
    this.area.put(group);
  }

  /** A place in program coordinates. */
  setPlace(place: Vec3 | null) {
    if (!place) return this.spot.put(null);
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(place), 3));
    const look = { color: PLACE, size: 12, sizeAttenuation: false, depthTest: false };
    this.spot.put(new THREE.Points(geometry, new THREE.PointsMaterial(look)));
  }
}
