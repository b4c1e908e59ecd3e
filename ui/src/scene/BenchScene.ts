import * as THREE from "three";
import type { Vec3 } from "../api/types";
import { Camera } from "./camera";
import { DARK, DRAWN, LIGHT } from "./colours";
import { BodyLayer } from "./layers/body";
import { DrawingLayer } from "./layers/drawing";
import { FieldLayer } from "./layers/field";
import { MachineLayer } from "./layers/machine";
import { MarksLayer } from "./layers/marks";
import { PartLayer } from "./layers/part";
import { PathLayer } from "./layers/path";
import { StockLayer } from "./layers/stock";
import { ToolLayer } from "./layers/tool";
import { softwareOnly, environmentOf, GroundShadow } from "./light";
import { pickBody, Ruler, type Axis, type BodyPick, type Pickable } from "./measuring";
import { NodeTree } from "./nodes";
import { pickPart, pickPlace, type Hit } from "./picking";
import type { Stage } from "./stage";

/** Of the pixels to each side those that are drawn in a hurry. */
const HURRIED = 0.4;
/** Directions from which a machine is looked at, the usual one first. */
const CORNERS: Vec3[] = [1, -1].flatMap((y) => [1, -1].map((x) => [x, -1.35 * y, 0.95] as Vec3));
const NOTHING = new THREE.Box3(new THREE.Vector3(-50, -50, -20), new THREE.Vector3(50, 50, 20));

/** The one scene of the bench: layers on one tree of nodes, and a camera. Draws only what has changed. */
export class BenchScene implements Stage {
  colours = LIGHT;
  readonly nodes = new NodeTree();
  readonly part: PartLayer;
  readonly marks: MarksLayer;
  readonly stock: StockLayer;
  readonly field: FieldLayer;
  readonly path: PathLayer;
  readonly drawing: DrawingLayer;
  readonly tool: ToolLayer;
  readonly machine: MachineLayer;
  readonly body: BodyLayer;
  readonly ruler: Ruler;
  private readonly renderer: THREE.WebGLRenderer;
  private readonly scene = new THREE.Scene();
  private readonly camera: Camera;
  /** Whether pictures are drawn without a graphics card. */
  readonly software: boolean;
  private asked = false;
  private readonly room: THREE.Texture | null;
  private readonly shadow = new GroundShadow();

  constructor(readonly canvas: HTMLCanvasElement) {
    // without a graphics card smooth edges would halve the pictures in a second
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: !softwareOnly() });
    this.renderer.setPixelRatio(Math.min(2, window.devicePixelRatio));
    this.renderer.debug.checkShaderErrors = false; // asking for them waits for the compiler
    this.software = softwareOnly();
    this.camera = new Camera(canvas, () => this.ask());
    this.room = this.software ? null : environmentOf(this.renderer);
    this.scene.environment = this.room; // the room is made with its up along Z, as the scene
    this.scene.environmentIntensity = 0.55;
    const [around, straight] = this.room ? [0.7, 1.1] : [1.5, 1.6];
    const sky = new THREE.HemisphereLight(0xffffff, 0x8a8577, around);
    sky.position.set(0, 0, 1);
    const lamp = new THREE.DirectionalLight(0xffffff, straight);
    lamp.position.set(-0.5, -1, 1.6);
    this.scene.add(sky, lamp, this.camera.lens, this.nodes.base, this.shadow.plane);
    const { work, tool } = this.nodes;
    this.part = new PartLayer(work, this);
    this.marks = new MarksLayer(this.part, this);
    this.stock = new StockLayer(work, this);
    this.field = new FieldLayer(work, this);
    this.path = new PathLayer(work, this);
    this.drawing = new DrawingLayer(work, this);
    this.tool = new ToolLayer(tool, this);
    this.machine = new MachineLayer(this.nodes, this);
    this.body = new BodyLayer(work, this);
    this.ruler = new Ruler(this.nodes, DRAWN);
    this.scene.add(this.ruler.thing);
    this.setDark(false);
    this.look([1, -1.35, 0.95]);
  }

  dispose() {
    const { marks, part, stock, field, path, drawing, tool, machine, body } = this;
    for (const layer of [marks, part, stock, field, path, drawing, tool, machine, body]) layer.dispose();
    this.ruler.dispose();
    this.camera.dispose();
    this.room?.dispose();
    this.shadow.dispose();
    this.renderer.dispose();
  }

  ask() {
    if (this.asked) return;
    this.asked = true;
    requestAnimationFrame(() => {
      this.asked = false;
      const shown = [...this.part.things, ...this.stock.things].some((t) => t.visible);
      this.ruler.follow();
      this.shadow.plane.visible = shown && !this.nodes.turns;
      this.renderer.render(this.scene, this.camera.lens);
    });
  }

  /** Draws fewer pixels while much moves, where there is no graphics card, and all of them at rest. */
  hurry(moving: boolean) {
    const full = Math.min(2, window.devicePixelRatio);
    const ratio = moving && this.software ? HURRIED * full : full;
    if (this.renderer.getPixelRatio() === ratio) return;
    this.renderer.setPixelRatio(ratio);
    this.ask();
  }

  resize(width: number, height: number) {
    this.renderer.setSize(width, height, false);
    this.camera.resize(width, height);
    this.ask();
  }

  setDark(dark: boolean) {
    this.colours = dark ? DARK : LIGHT;
    this.scene.background = new THREE.Color(this.colours.ground);
    this.ask();
  }

  /** Turns the camera to look from a direction, at what is there: the work, or the whole machine. */
  look(direction: Vec3, whole = false) {
    const box = this.around();
    const machine = new THREE.Box3();
    for (const thing of this.machine.things) machine.expandByObject(thing);
    if (whole) box.union(machine);
    this.camera.look(direction, box, machine.getSize(new THREE.Vector3()).length());
    this.shadow.under(this.around());
    this.ask();
  }

  /** Looks at the whole machine from the corner from which the least of it stands before the work and what holds the
   * tool. */
  lookAtMachine() {
    this.look(openCorner(this.machine, this.around()), true);
  }

  /** The box of what there is to look at. */
  private around(): THREE.Box3 {
    const box = new THREE.Box3();
    for (const thing of [...this.part.things, ...this.stock.things, ...this.body.things])
      if (thing.visible) box.expandByObject(thing);
    return box.isEmpty() ? NOTHING.clone() : box;
  }

  /** Brings a place of the work (program coordinates) into the middle, near enough to see what is there. */
  goTo(place: Vec3) {
    const box = this.around();
    const point = this.nodes.work.localToWorld(new THREE.Vector3(...place));
    let room = 0.9 * box.getSize(new THREE.Vector3()).length();
    const machine = this.machine.things;
    if (machine.length) {
      // from where the bodies about the place can be told apart
      for (const thing of machine) box.expandByObject(thing);
      room = 0.5 * box.getSize(new THREE.Vector3()).length();
      this.lookAtMachine();
    }
    this.camera.approach(point.toArray(), room);
    this.ask();
  }

  /** What lies under a point of the canvas (-1..1), in the part's frame. */
  pick(x: number, y: number): Hit | null {
    return pickPart(this.part, this.camera, this.size(), x, y);
  }

  /** The nearest body under a point of the canvas (-1..1), for measuring; the part before the stock about it where
   * that is looked through. `axes` are those of the part's faces in their order, null for faces that are not round. */
  pickBody(x: number, y: number, axes: (Axis | null)[], throughStock: boolean): BodyPick | null {
    const { part, stock, machine, tool } = this;
    const work = { of: "work" } as const;
    const axisOf = (hit: THREE.Intersection) => axes[part.faceOf(hit.faceIndex!) - 1] ?? null;
    const things: Pickable[] = [
      ...(part.shown ? part.things.map((thing) => ({ body: "part", carrier: work, thing, axisOf })) : []),
      ...stock.pickable.map(({ body, thing }) => ({ body, carrier: work, thing })),
      ...machine.pickable,
      ...tool.pickable.map((one) => ({ ...one, carrier: { of: "tool" } as const })),
    ];
    const ray = this.camera.rayAt(x, y);
    const hit = pickBody(ray, things, this.nodes);
    if (!throughStock || hit?.body !== "stock") return hit;
    const behind = pickBody(
      ray,
      things.filter((one) => one.body !== "stock"),
      this.nodes,
    );
    return behind?.body === "part" ? behind : hit;
  }

  /** The place in the shown frame (X, Y, mm) under a point of the canvas (-1..1), for drawing an area. */
  cornerAt(x: number, y: number): [number, number] | null {
    return pickPlace(this.part, this.camera, this.size(), x, y, this.drawing.height);
  }

  private size(): THREE.Vector2 {
    return this.renderer.getSize(new THREE.Vector2());
  }
}

/** The corner from which the fewest bodies of a machine stand before its spindle and the middle of a box. */
function openCorner(machine: MachineLayer, box: THREE.Box3): Vec3 {
  const places = [...machine.spindles.map((thing) => new THREE.Box3().setFromObject(thing)), box];
  const others = machine.things.filter((thing) => !machine.spindles.includes(thing));
  const hidden = CORNERS.map((way) => {
    const toward = new THREE.Vector3(...way).normalize();
    const rays = places.map((at) => new THREE.Raycaster(at.getCenter(new THREE.Vector3()), toward));
    return rays.reduce((sum, ray) => sum + (ray.intersectObjects(others, true).length ? 1 : 0), 0);
  });
  return CORNERS[hidden.indexOf(Math.min(...hidden))];
}
