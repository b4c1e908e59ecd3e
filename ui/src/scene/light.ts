import * as THREE from "three";

/** Bright panels of the room in which the work is looked at: middle, size (m), how bright. */
const PANELS: [[number, number, number], [number, number], number][] = [
  [[0, -1, 4.4], [5, 3], 5],
  [[-4.4, -2, 1.5], [3, 4], 2.2],
  [[4.4, 1, 1.5], [2.5, 4], 1.4],
];
const WALLS = 0xc9c7c0;
const FLOOR = 0x8f8b82;
const SHADOW_PIXELS = 128;

let known: boolean | null = null;

/** Whether this browser draws without a graphics card: there what is fine takes seconds. */
export function softwareOnly(): boolean {
  if (known !== null) return known;
  const gl = document.createElement("canvas").getContext("webgl2");
  known = gl !== null && drawsInSoftware(gl);
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  return known;
}

function drawsInSoftware(gl: WebGL2RenderingContext): boolean {
  const info = gl.getExtension("WEBGL_debug_renderer_info");
  const name = String(gl.getParameter(info ? info.UNMASKED_RENDERER_WEBGL : gl.RENDERER));
  return /swiftshader|llvmpipe|software|basic render/i.test(name);
}

/** Light from all around, as of a plain room with bright panels, made here. */
export function environmentOf(renderer: THREE.WebGLRenderer): THREE.Texture {
  const room = new THREE.Scene();
  const walls = new THREE.Mesh(
    new THREE.BoxGeometry(9, 9, 9),
    new THREE.MeshBasicMaterial({ color: WALLS, side: THREE.BackSide }),
  );
  const floor = new THREE.Mesh(new THREE.PlaneGeometry(9, 9), new THREE.MeshBasicMaterial({ color: FLOOR }));
  floor.position.z = -4.3;
  room.add(walls, floor);
  for (const [[x, y, z], [width, height], bright] of PANELS) {
    const look = { color: new THREE.Color(bright, bright, bright), side: THREE.DoubleSide };
    const panel = new THREE.Mesh(new THREE.PlaneGeometry(width, height), new THREE.MeshBasicMaterial(look));
    panel.position.set(x, y, z);
    panel.lookAt(0, 0, 0);
    room.add(panel);
  }
  const maker = new THREE.PMREMGenerator(renderer);
  const made = maker.fromScene(room, 0.03).texture;
  maker.dispose();
  room.traverse((thing) => {
    if (!(thing instanceof THREE.Mesh)) return;
    thing.geometry.dispose();
    thing.material.dispose();
  });
  return made;
}

/** A soft shadow on the ground under a box. */
export class GroundShadow {
  readonly plane: THREE.Mesh<THREE.PlaneGeometry, THREE.MeshBasicMaterial>;

  constructor() {
    const look = { map: softSpot(), transparent: true, depthWrite: false, opacity: 0.26 };
    this.plane = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), new THREE.MeshBasicMaterial(look));
    this.plane.renderOrder = -1;
    this.plane.visible = false;
  }

  under(box: THREE.Box3) {
    const size = box.getSize(new THREE.Vector3());
    const middle = box.getCenter(new THREE.Vector3());
    this.plane.visible = !box.isEmpty();
    this.plane.scale.set(size.x * 1.45, size.y * 1.45, 1);
    this.plane.position.set(middle.x, middle.y, box.min.z - 0.004 * size.length());
  }

  dispose() {
    this.plane.geometry.dispose();
    this.plane.material.map?.dispose();
    this.plane.material.dispose();
  }
}

/** Dark in the middle and nothing at the rim, as a square with soft corners. */
function softSpot(): THREE.DataTexture {
  const n = SHADOW_PIXELS;
  const data = new Uint8Array(4 * n * n);
  for (let j = 0; j < n; j++)
    for (let i = 0; i < n; i++) {
      const [x, y] = [Math.abs((2 * i + 1) / n - 1), Math.abs((2 * j + 1) / n - 1)];
      const away = Math.min(1, (x ** 4 + y ** 4) ** 0.25);
      const inside = Math.max(0, (1 - away) / 0.38);
      data[4 * (j * n + i) + 3] = 255 * Math.min(1, inside) ** 1.6;
    }
  const spot = new THREE.DataTexture(data, n, n);
  spot.magFilter = THREE.LinearFilter;
  spot.needsUpdate = true;
  return spot;
}
