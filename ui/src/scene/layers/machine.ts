import * as THREE from "three";
import type { Vec3 } from "../../api/types";
import type { NodeTree } from "../nodes";
import { Slot, type Stage } from "../stage";

/** A round body between the middles of its ends, in machine coordinates with all joints at zero. */
export interface Body {
  joint?: string | null;
  role?: "base" | "link" | "table" | "spindle";
  begin: Vec3;
  end: Vec3;
  radius: number;
  radius_end?: number | null;
}

const COLOURS = { base: 0x6f7b80, link: 0xa9b6b4, table: 0x8b8474, spindle: 0x4f6470 };
const UP = new THREE.Vector3(0, 1, 0);

/** The bodies of a machine on the joints that carry them. */
export class MachineLayer {
  private slots: Slot[] = [];

  constructor(
    private readonly nodes: NodeTree,
    private readonly stage: Stage,
  ) {}

  set(bodies: readonly Body[]) {
    for (const slot of this.slots) slot.put(null);
    this.slots = bodies.map((body) => {
      const slot = new Slot(this.nodes.nodeOf(body.joint ?? null), this.stage);
      slot.put(round(body));
      return slot;
    });
    this.stage.ask();
  }

  dispose() {
    this.set([]);
  }
}

function round({ begin, end, radius, radius_end, role }: Body): THREE.Mesh {
  const [from, to] = [new THREE.Vector3(...begin), new THREE.Vector3(...end)];
  const way = to.clone().sub(from);
  const geometry = new THREE.CylinderGeometry(radius_end ?? radius, radius, way.length(), 40);
  const skin = new THREE.MeshStandardMaterial({
    color: COLOURS[role ?? "link"],
    roughness: 0.65,
    metalness: 0.1,
  });
  const mesh = new THREE.Mesh(geometry, skin);
  mesh.quaternion.setFromUnitVectors(UP, way.normalize());
  mesh.position.copy(from.add(to).multiplyScalar(0.5));
  return mesh;
}
