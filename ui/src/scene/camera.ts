import * as THREE from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import type { Vec3 } from "../api/types";

/** Share of the picture that what is looked at may fill. */
const FILLED = 0.82;

/** Camera and how it is turned by hand. */
export class Camera {
  readonly lens = new THREE.PerspectiveCamera(32, 1, 0.1, 20000);
  private readonly controls: OrbitControls;

  constructor(canvas: HTMLCanvasElement, changed: () => void) {
    this.lens.up.set(0, 0, 1);
    this.lens.add(new THREE.DirectionalLight(0xffffff, 0.5));
    this.controls = new OrbitControls(this.lens, canvas);
    this.controls.addEventListener("change", changed);
  }

  dispose() {
    this.controls.dispose();
  }

  resize(width: number, height: number) {
    this.lens.aspect = width / Math.max(1, height);
    this.lens.updateProjectionMatrix();
  }

  /** Looks from a direction at a box, with all in sight that reaches `about` mm around it. */
  look(direction: Vec3, box: THREE.Box3, about = 0) {
    const middle = box.getCenter(new THREE.Vector3());
    const size = box.getSize(new THREE.Vector3()).length() || 100;
    const away = new THREE.Vector3(...direction).normalize();
    if (Math.abs(away.z) > 0.999) away.set(0, -0.001, Math.sign(away.z)).normalize();
    this.lens.position.copy(middle).addScaledVector(away, this.distanceFor(box, middle, away));
    this.lens.near = size / 200;
    this.lens.far = Math.max(size * 40, 4 * about);
    this.lens.updateProjectionMatrix();
    this.controls.target.copy(middle);
    this.controls.update();
  }

  /** Looks at a point from where it looks from now, from no farther away than so much, mm. */
  approach(point: Vec3, most: number) {
    const arm = this.lens.position.clone().sub(this.controls.target);
    arm.setLength(Math.min(arm.length(), most));
    this.controls.target.set(...point);
    this.lens.position.set(...point).add(arm);
    this.controls.update();
  }

  /** The line of sight through a point of the canvas (-1..1). */
  rayAt(x: number, y: number): THREE.Raycaster {
    const ray = new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2(x, y), this.lens);
    return ray;
  }

  /** How far away the camera must be for every corner of a box to lie well inside the picture. */
  private distanceFor(box: THREE.Box3, middle: THREE.Vector3, away: THREE.Vector3): number {
    const right = new THREE.Vector3(0, 0, 1).cross(away).normalize();
    const up = away.clone().cross(right);
    const half = Math.tan(THREE.MathUtils.degToRad(this.lens.fov / 2)) * FILLED;
    let far = 0;
    for (const x of [box.min.x, box.max.x])
      for (const y of [box.min.y, box.max.y])
        for (const z of [box.min.z, box.max.z]) {
          const arm = new THREE.Vector3(x, y, z).sub(middle);
          const wide = Math.abs(arm.dot(right)) / (half * this.lens.aspect);
          far = Math.max(far, arm.dot(away) + Math.max(wide, Math.abs(arm.dot(up)) / half));
        }
    return far;
  }
}
