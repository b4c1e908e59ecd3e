import type * as THREE from "three";
import type { LIGHT } from "./colours";

/** What a layer needs of the scene it is shown in. */
export interface Stage {
  /** Asks for a new picture; many calls before it is drawn make one. */
  ask(): void;
  readonly colours: typeof LIGHT;
}

/** One thing under a node, or none. What takes its place, or nothing, frees its buffers. */
export class Slot<T extends THREE.Object3D = THREE.Object3D> {
  private held: T | null = null;

  constructor(
    private readonly node: THREE.Object3D,
    private readonly stage: Stage,
  ) {}

  get thing(): T | null {
    return this.held;
  }

  put(thing: T | null) {
    if (this.held) {
      this.held.removeFromParent();
      this.held.traverse(free);
    } else if (!thing) return;
    this.held = thing;
    if (thing) this.node.add(thing);
    this.stage.ask();
  }

  show(visible: boolean) {
    if (!this.held || this.held.visible === visible) return;
    this.held.visible = visible;
    this.stage.ask();
  }
}

/**
 * Frees the buffers. Materials are left to the garbage collector: with the last material of a kind its program would
 * go, and the next one like it waits for it to be compiled again, for a second without a graphics card.
 */
function free(object: THREE.Object3D) {
  (object as THREE.Mesh).geometry?.dispose();
}
