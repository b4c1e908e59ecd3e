import * as THREE from "three";
import { toCreasedNormals } from "three/examples/jsm/utils/BufferGeometryUtils.js";
import type { Blob } from "../../api/binary";
import type { Pickable } from "../measuring";
import type { NodeTree } from "../nodes";
import { Slot, type Stage } from "../stage";

/** A body of the machine on the joint that carries it; `role` says what it is, and so its colour. */
export interface MachineBody {
  name: string;
  joint: string | null;
  role: string;
  vertices: Float32Array;
  triangles: Int32Array;
}

/** How the machine is drawn: not at all, solid, see-through, or only what stands and what carries the work. */
export type MachineLook = "hidden" | "seen" | "through" | "base";

const COLOURS: Record<string, number> = {
  base: 0x6f7b80,
  bed: 0x66716f,
  column: 0x7d8a86,
  guard: 0xa7a394,
  saddle: 0x8b9792,
  table: 0x8b8474,
  rotary: 0x7a7567,
  trunnion: 0x9a8f78,
  link: 0xa9b6b4,
  head: 0xa9b6b4,
  spindle: 0x4f6470,
  changer: 0xb9a06a,
};
const CREASE = THREE.MathUtils.degToRad(35);
const THROUGH = 0.22;

/** The bodies in a blob of the server: their triangles one after the other. */
export function bodiesOf(blob: Blob | undefined): MachineBody[] {
  if (!blob) return [];
  const rows = blob.head.bodies as (Omit<MachineBody, "vertices" | "triangles"> & {
    vertices: number;
    triangles: number;
  })[];
  const [vertices, triangles] = [blob.arrays.vertices as Float32Array, blob.arrays.triangles as Int32Array];
  let [v, t] = [0, 0];
  return rows.map(({ name, joint, role, vertices: count, triangles: sides }) => {
    const body = {
      name,
      joint,
      role,
      vertices: vertices.subarray(3 * v, 3 * (v + count)),
      triangles: triangles.subarray(3 * t, 3 * (t + sides)),
    };
    [v, t] = [v + count, t + sides];
    return body;
  });
}

/** The bodies of a machine on the joints that carry them. */
export class MachineLayer {
  private slots = new Map<string, { body: MachineBody; slot: Slot<THREE.Group> }>();
  private look: MachineLook = "seen";
  private carrying: ReadonlySet<string> = new Set();
  private faded: ReadonlySet<string> = new Set();
  private painted: { names: readonly string[]; color: number } | null = null;

  constructor(
    private readonly nodes: NodeTree,
    private readonly stage: Stage,
  ) {}

  /** Puts bodies on the joints of the tree, and takes those away that were there. A body of a joint that has got
   * another name meanwhile waits for its new picture. */
  set(bodies: readonly MachineBody[]) {
    for (const { slot } of this.slots.values()) slot.put(null);
    this.slots = new Map(
      bodies
        .filter((body) => this.nodes.has(body.joint))
        .map((body) => {
          const slot = new Slot<THREE.Group>(this.nodes.nodeOf(body.joint), this.stage);
          slot.put(drawn(body, this.stage.colours.edge));
          return [body.name, { body, slot }];
        }),
    );
    this.redraw();
  }

  /** How all are drawn; `carrying` are the joints that carry the work, `faded` those drawn see-through anyway. */
  show(look: MachineLook, carrying: ReadonlySet<string>, faded: ReadonlySet<string>) {
    [this.look, this.carrying, this.faded] = [look, carrying, faded];
    this.redraw();
  }

  /** Paints bodies by name, until null is given. */
  paint(names: readonly string[] | null, color = 0) {
    this.painted = names && { names, color };
    this.redraw();
  }

  /** What can be seen. */
  get things(): THREE.Object3D[] {
    return [...this.slots.values()].flatMap(({ slot }) => (slot.thing?.visible ? [slot.thing] : []));
  }

  /** Of what can be seen, what holds the tool. */
  get spindles(): THREE.Object3D[] {
    return [...this.slots.values()].flatMap(({ body, slot }) =>
      slot.thing?.visible && body.role === "spindle" ? [slot.thing] : [],
    );
  }

  /** What can be picked: what is drawn solid. */
  get pickable(): Pickable[] {
    return [...this.slots.values()].flatMap(({ body, slot }) => {
      const thing = slot.thing;
      if (!thing?.visible || ((thing.children[0] as THREE.Mesh).material as THREE.Material).transparent)
        return [];
      return [{ body: body.name, carrier: { of: "machine" as const, joint: body.joint }, thing }];
    });
  }

  private redraw() {
    for (const { body, slot } of this.slots.values()) {
      if (!slot.thing) continue;
      const standing = body.joint === null || this.carrying.has(body.joint);
      slot.thing.visible = this.look !== "hidden" && (this.look !== "base" || standing);
      const met = this.painted?.names.includes(body.name);
      // the room of the magazine's arm is there while a tool is changed only
      const aside = this.faded.has(body.name) || body.role === "changer";
      const through = !met && (this.look === "through" || aside);
      const [mesh, edges] = slot.thing.children as [THREE.Mesh, THREE.LineSegments];
      const skin = mesh.material as THREE.MeshStandardMaterial;
      skin.color.setHex(met ? this.painted!.color : (COLOURS[body.role] ?? COLOURS.link));
      if (skin.transparent !== through) skin.needsUpdate = true;
      [skin.transparent, skin.opacity, skin.depthWrite] = [through, through ? THROUGH : 1, !through];
      (edges.material as THREE.LineBasicMaterial).opacity = through ? 0.3 : 0.55;
    }
    this.stage.ask();
  }

  dispose() {
    this.set([]);
  }
}

/** A body with its edges, in machine coordinates with all joints at zero. */
function drawn(body: MachineBody, edge: number): THREE.Group {
  const plain = new THREE.BufferGeometry();
  plain.setAttribute("position", new THREE.BufferAttribute(body.vertices, 3));
  plain.setIndex(new THREE.BufferAttribute(new Uint32Array(body.triangles), 1));
  const skin = new THREE.MeshStandardMaterial({ roughness: 0.7, metalness: 0.1 });
  const group = new THREE.Group();
  const lines = new THREE.EdgesGeometry(plain, 35);
  const ink = new THREE.LineBasicMaterial({ color: edge, transparent: true, opacity: 0.55 });
  group.add(new THREE.Mesh(toCreasedNormals(plain, CREASE), skin), new THREE.LineSegments(lines, ink));
  group.name = body.name;
  plain.dispose();
  return group;
}
