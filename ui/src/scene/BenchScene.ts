import * as THREE from "three";
import type { Vec3 } from "../api/types";
import { Camera } from "./camera";
import { DARK, LIGHT } from "./colours";
import { DrawingLayer } from "./layers/drawing";
import { FieldLayer } from "./layers/field";
import { MachineLayer } from "./layers/machine";
import { MarksLayer } from "./layers/marks";
import { PartLayer } from "./layers/part";
import { PathLayer } from "./layers/path";
import { StockLayer } from "./layers/stock";
import { ToolLayer } from "./layers/tool";
import { NodeTree } from "./nodes";
import { pickPart, pickPlace, type Hit } from "./picking";
import type { Stage } from "./stage";

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
  private readonly renderer: THREE.WebGLRenderer;
  private readonly scene = new THREE.Scene();
  private readonly camera: Camera;
  private asked = false;

  constructor(readonly canvas: HTMLCanvasElement) {
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: true });
    this.renderer.setPixelRatio(Math.min(2, window.devicePixelRatio));
    this.camera = new Camera(canvas, () => this.ask());
    const sky = new THREE.HemisphereLight(0xffffff, 0x8a8577, 1.7);
    sky.position.set(0, 0, 1);
    const lamp = new THREE.DirectionalLight(0xffffff, 1.5);
    lamp.position.set(-0.5, -1, 1.6);
    this.scene.add(sky, lamp, this.camera.lens, this.nodes.base);
    const { work, tool } = this.nodes;
    this.part = new PartLayer(work, this);
    this.marks = new MarksLayer(this.part, this);
    this.stock = new StockLayer(work, this);
    this.field = new FieldLayer(work, this);
    this.path = new PathLayer(work, this);
    this.drawing = new DrawingLayer(work, this);
    this.tool = new ToolLayer(tool, this);
    this.machine = new MachineLayer(this.nodes, this);
    this.setDark(false);
    this.look([1, -1.35, 0.95]);
  }

  dispose() {
    const { marks, part, stock, field, path, drawing, tool, machine } = this;
    for (const layer of [marks, part, stock, field, path, drawing, tool, machine]) layer.dispose();
    this.camera.dispose();
    this.renderer.dispose();
  }

  ask() {
    if (this.asked) return;
    this.asked = true;
    requestAnimationFrame(() => {
      this.asked = false;
      this.renderer.render(this.scene, this.camera.lens);
    });
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
    const box = new THREE.Box3();
    if (whole) box.expandByObject(this.nodes.base);
    for (const thing of [...this.part.things, ...this.stock.things])
      if (thing.visible) box.expandByObject(thing);
    this.camera.look(direction, box.isEmpty() ? NOTHING : box);
    this.ask();
  }

  /** What lies under a point of the canvas (-1..1), in the part's frame. */
  pick(x: number, y: number): Hit | null {
    return pickPart(this.part, this.camera, this.size(), x, y);
  }

  /** The place in the shown frame (X, Y, mm) under a point of the canvas (-1..1), for drawing an area. */
  cornerAt(x: number, y: number): [number, number] | null {
    return pickPlace(this.part, this.camera, this.size(), x, y, this.drawing.height);
  }

  private size(): THREE.Vector2 {
    return this.renderer.getSize(new THREE.Vector2());
  }
}
