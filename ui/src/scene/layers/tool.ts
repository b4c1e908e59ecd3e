import * as THREE from "three";
import type { Tool, Vec3 } from "../../api/types";
import { section } from "../cutter";
import type { Axis, Pickable } from "../measuring";
import { placeAt } from "../nodes";
import { Slot, type Stage } from "../stage";

const CUTTER = 0xd9a441;
const SHANK = 0xc9ced3;
const HOLDER = 0x8d989f;

/** Cutter, shank and holder at a tip. */
export class ToolLayer {
  private readonly slot: Slot;
  private painted: { part: string; color: number } | null = null;

  constructor(
    private readonly node: THREE.Object3D,
    private readonly stage: Stage,
  ) {
    this.slot = new Slot(node, stage);
  }

  set(tool: Tool | null) {
    this.slot.put(tool && bodyOf(tool));
    this.repaint();
  }

  /** Leaves the tool out of the picture, or draws it. */
  show(visible: boolean) {
    if (this.node.visible === visible) return;
    this.node.visible = visible;
    this.stage.ask();
  }

  /** Paints a part of the tool, cutter, shank or holder, until null is given. */
  paint(part: string | null, color = 0) {
    this.painted = part ? { part, color } : null;
    this.repaint();
  }

  /** What can be picked: cutter, shank and holder, each with the tool's axis. */
  get pickable(): Omit<Pickable, "carrier">[] {
    if (!this.node.visible) return [];
    const axisOf = (): Axis => ({ at: [0, 0, 0], along: [0, 0, 1], radius: 0 });
    const parts = this.slot.thing?.children ?? [];
    return parts.map((thing) => ({ body: String(thing.userData.part), thing, axisOf }));
  }

  private repaint() {
    const { painted } = this;
    this.slot.thing?.traverse((thing) => {
      const own = thing.userData as { part?: string; color?: number };
      if (!(thing instanceof THREE.Mesh) || own.color === undefined) return;
      const skin = thing.material as THREE.MeshStandardMaterial;
      skin.color.setHex(painted && painted.part === own.part ? painted.color : own.color);
    });
    this.stage.ask();
  }

  dispose() {
    this.set(null);
  }

  /** Holds the tool in a mount on the gauge line, in the frame of the joint that carries it. */
  hold(mount: THREE.Matrix4, length: number) {
    placeAt(this.node, heldIn(mount, length));
    this.stage.ask();
  }

  /** Stands the tool at a tip, its axis along a direction. */
  place(tip: Vec3, axis: Vec3 = [0, 0, 1]) {
    const turned = new THREE.Quaternion().setFromUnitVectors(
      new THREE.Vector3(0, 0, 1),
      new THREE.Vector3(...axis),
    );
    this.node.matrix.compose(new THREE.Vector3(...tip), turned, new THREE.Vector3(1, 1, 1));
    this.node.updateMatrixWorld(true);
    this.stage.ask();
  }
}

/** Where a tool so long sits in a mount on the gauge line. */
export function heldIn(mount: THREE.Matrix4, length: number): THREE.Matrix4 {
  return mount.clone().multiply(new THREE.Matrix4().makeTranslation(0, 0, -length));
}

/** From the tip to the gauge line. */
export function gaugeLength(tool: Tool): number {
  return tool.stick_out + tool.holder.reduce((sum, part) => sum + part.length, 0);
}

function bodyOf(tool: Tool): THREE.Group {
  const group = new THREE.Group();
  const half = tool.shank_diameter / 2;
  group.add(turned(section(tool), "cutter", CUTTER));
  if (tool.stick_out > tool.flute_length)
    group.add(turned([[half, tool.flute_length], [half, tool.stick_out]], "shank", SHANK)); // prettier-ignore
  let at = tool.stick_out;
  for (const { diameter_low, diameter_high, length } of tool.holder) {
    const [low, high, end] = [diameter_low / 2, diameter_high / 2, at + length];
    group.add(turned([[0, at], [low, at], [high, end], [0, end]], "holder", HOLDER, 0.75)); // prettier-ignore
    at = end;
  }
  return group;
}

/** A part of the tool, a body of revolution about Z, from its section (radius, height). */
function turned(points: [number, number][], part: string, color: number, opacity = 1): THREE.Mesh {
  const outline = points.map(([r, h]) => new THREE.Vector2(r, h));
  const geometry = new THREE.LatheGeometry(outline, 48).rotateX(Math.PI / 2);
  const skin = new THREE.MeshStandardMaterial({
    color,
    roughness: 0.45,
    metalness: 0.35,
    transparent: opacity < 1,
    opacity,
    side: THREE.DoubleSide,
  });
  const body = new THREE.Mesh(geometry, skin);
  body.userData = { part, color };
  return body;
}
