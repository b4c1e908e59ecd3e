import * as THREE from "three";
import type { HeightField } from "../heightfield";
import { Slot, type Stage } from "../stage";

/** The height field that replays upright moves in the browser. */
export class FieldLayer {
  private readonly slot: Slot<THREE.Mesh>;
  private field: HeightField | null = null;
  private painted: number | null = null;

  constructor(
    work: THREE.Object3D,
    private readonly stage: Stage,
  ) {
    this.slot = new Slot(work, stage);
  }

  /** Shows a height field; call `draw` after it has moved. */
  set(field: HeightField | null) {
    this.field = field;
    this.slot.put(field && this.meshOf(field));
    this.draw();
  }

  dispose() {
    this.set(null);
  }

  /** Paints it, until null is given. */
  paint(color: number | null) {
    this.painted = color;
    const skin = this.slot.thing?.material as THREE.MeshLambertMaterial | undefined;
    skin?.color.setHex(color ?? this.stage.colours.stock);
    this.stage.ask();
  }

  show(visible: boolean) {
    this.slot.show(visible);
  }

  draw() {
    if (!this.slot.thing || !this.field) return;
    const attribute = this.slot.thing.geometry.getAttribute("position") as THREE.BufferAttribute;
    const points = attribute.array as Float32Array;
    const heights = this.field.heights;
    for (let k = 0; k < heights.length; k++) points[3 * k + 2] = heights[k];
    attribute.needsUpdate = true;
    this.stage.ask();
  }

  private meshOf({ nx, ny, x0, y0, cell }: HeightField): THREE.Mesh {
    const points = new Float32Array(nx * ny * 3);
    for (let j = 0, k = 0; j < ny; j++) {
      for (let i = 0; i < nx; i++) {
        points[k++] = x0 + i * cell;
        points[k++] = y0 + j * cell;
        k++;
      }
    }
    const index = new Uint32Array((nx - 1) * (ny - 1) * 6);
    for (let j = 0, k = 0; j + 1 < ny; j++) {
      for (let i = 0; i + 1 < nx; i++) {
        const a = j * nx + i;
        index.set([a, a + 1, a + nx + 1, a, a + nx + 1, a + nx], k);
        k += 6;
      }
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
    geometry.setIndex(new THREE.BufferAttribute(index, 1));
    // plain light is enough for what moves, and half as much work where there is no graphics card
    const skin = new THREE.MeshLambertMaterial({
      color: this.painted ?? this.stage.colours.stock,
      flatShading: true,
    });
    const mesh = new THREE.Mesh(geometry, skin);
    mesh.frustumCulled = false;
    return mesh;
  }
}
