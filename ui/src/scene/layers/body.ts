import * as THREE from "three";
import type { Vec3 } from "../../api/types";
import { Slot, type Stage } from "../stage";

export interface SafeBody {
  low: Vec3;
  high: Vec3;
  radius: number;
}

const UP = new THREE.Vector3(0, 1, 0);

/** The body about all that turns with the work, seen through. */
export class BodyLayer {
  private readonly slot: Slot;

  constructor(work: THREE.Object3D, stage: Stage) {
    this.slot = new Slot(work, stage);
  }

  set(body: SafeBody | null) {
    this.slot.put(body && cylinder(body));
  }

  get things(): THREE.Object3D[] {
    return this.slot.thing ? [this.slot.thing] : [];
  }

  dispose() {
    this.set(null);
  }
}

function cylinder({ low, high, radius }: SafeBody): THREE.Mesh {
  const [from, to] = [new THREE.Vector3(...low), new THREE.Vector3(...high)];
  const way = to.clone().sub(from);
  const geometry = new THREE.CylinderGeometry(radius, radius, Math.max(way.length(), 1), 64);
  const skin = new THREE.MeshBasicMaterial({
    color: 0x0f6073,
    transparent: true,
    opacity: 0.13,
    depthWrite: false,
    side: THREE.DoubleSide,
  });
  const mesh = new THREE.Mesh(geometry, skin);
  if (way.length() > 0) mesh.quaternion.setFromUnitVectors(UP, way.clone().normalize());
  mesh.position.copy(from.add(to).multiplyScalar(0.5));
  return mesh;
}
