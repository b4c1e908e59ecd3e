import * as THREE from "three";
import type { Blob } from "../../api/binary";
import type { Vec3 } from "../../api/types";
import { deviationColour } from "../colours";
import { Slot, type Stage } from "../stage";

const FIXTURE = 0x8d8aa0;
const BOX_EDGE = 0x8a7a54;

/** What is clamped: the stock before it is cut, what is left of it at a moment, and what holds it. */
export class StockLayer {
  private readonly box: Slot;
  private readonly solid: Slot;
  private readonly fixture: Slot;
  private readonly left: Slot;
  private fixtureColour = FIXTURE;
  private painted: number | null = null;

  constructor(
    work: THREE.Object3D,
    private readonly stage: Stage,
  ) {
    const slot = () => new Slot(work, stage);
    [this.box, this.solid, this.fixture, this.left] = [slot(), slot(), slot(), slot()];
  }

  dispose() {
    for (const slot of [this.box, this.solid, this.fixture, this.left]) slot.put(null);
  }

  /** What there is to look at. */
  get things(): THREE.Object3D[] {
    return [this.box.thing, this.left.thing].filter((thing) => thing !== null);
  }

  /** What can be picked, by what it is called. */
  get pickable(): { body: string; thing: THREE.Object3D }[] {
    const named = [
      ["stock", this.box],
      ["stock", this.solid],
      ["stock", this.left],
      ["fixture", this.fixture],
    ] as const;
    return named.flatMap(([body, { thing }]) => (thing?.visible ? [{ body, thing }] : []));
  }

  setBox(low: Vec3 | null, high: Vec3 | null) {
    this.box.put(low && high ? seeThroughBox(low, high, this.stage.colours.stock) : null);
  }

  /** The shape of a stock that is no box, see-through. */
  setSolid(blob: Blob | null) {
    const look = { color: this.stage.colours.stock, opacity: 0.45, depthWrite: false };
    this.solid.put(blob && meshOf(blob, look));
  }

  setFixture(blob: Blob | null) {
    this.fixture.put(
      blob && edged(meshOf(blob, { color: this.fixtureColour, opacity: 0.85 }), this.stage.colours.edge),
    );
  }

  /** Paints the fixture, until null is given. */
  paintFixture(color: number | null) {
    this.fixtureColour = color ?? FIXTURE;
    const held = this.fixture.thing?.children[0] as THREE.Mesh | undefined;
    (held?.material as THREE.MeshStandardMaterial | undefined)?.color.setHex(this.fixtureColour);
    this.stage.ask();
  }

  /** The server's surface of what is left; with `scale` (mm at the colours' ends) coloured by deviation. */
  setLeft(blob: Blob | null, scale: number | null) {
    this.left.put(blob && surfaceOf(blob, scale, this.painted ?? this.stage.colours.stock));
  }

  /** Paints what is left, until null is given. */
  paintLeft(color: number | null) {
    this.painted = color;
    const left = this.left.thing as THREE.Mesh | null;
    const skin = left?.material as THREE.MeshStandardMaterial | undefined;
    if (skin && !skin.vertexColors) skin.color.setHex(color ?? this.stage.colours.stock);
    this.stage.ask();
  }
}

function seeThroughBox(low: Vec3, high: Vec3, color: number): THREE.Group {
  const box = new THREE.BoxGeometry(high[0] - low[0], high[1] - low[1], high[2] - low[2]);
  const look = { color, transparent: true, opacity: 0.16, depthWrite: false };
  const group = new THREE.Group();
  group.add(
    new THREE.Mesh(box, new THREE.MeshStandardMaterial(look)),
    new THREE.LineSegments(new THREE.EdgesGeometry(box), new THREE.LineBasicMaterial({ color: BOX_EDGE })),
  );
  group.position.set((low[0] + high[0]) / 2, (low[1] + high[1]) / 2, (low[2] + high[2]) / 2);
  return group;
}

function meshOf(blob: Blob, look: THREE.MeshStandardMaterialParameters): THREE.Mesh {
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(blob.arrays.vertices as Float32Array, 3));
  geometry.setIndex(new THREE.BufferAttribute(new Uint32Array(blob.arrays.triangles), 1));
  const skin = new THREE.MeshStandardMaterial({ transparent: true, flatShading: true, ...look });
  return new THREE.Mesh(geometry, skin);
}

/** A body with its sharp edges. */
function edged(mesh: THREE.Mesh, color: number): THREE.Group {
  const ink = new THREE.LineBasicMaterial({ color, transparent: true, opacity: 0.55 });
  const group = new THREE.Group();
  group.add(mesh, new THREE.LineSegments(new THREE.EdgesGeometry(mesh.geometry, 25), ink));
  return group;
}

function surfaceOf(blob: Blob, scale: number | null, color: number): THREE.Mesh {
  const vertices = blob.arrays.vertices as Float32Array;
  const quads = blob.arrays.quads as Int32Array;
  const index = new Uint32Array((quads.length / 4) * 6);
  for (let q = 0, i = 0; q < quads.length; q += 4)
    for (const corner of [0, 1, 2, 0, 2, 3]) index[i++] = quads[q + corner];
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(vertices, 3));
  geometry.setIndex(new THREE.BufferAttribute(index, 1));
  const deviation = scale ? (blob.arrays.deviation as Float32Array | undefined) : undefined;
  if (deviation && scale) {
    const colours = new Float32Array(vertices.length);
    const colour = new THREE.Color();
    for (let i = 0; i < deviation.length; i++) {
      colour.setRGB(...deviationColour(deviation[i] / scale), THREE.SRGBColorSpace).toArray(colours, 3 * i);
    }
    geometry.setAttribute("color", new THREE.BufferAttribute(colours, 3));
  }
  const skin = new THREE.MeshStandardMaterial({
    color: deviation ? 0xffffff : color,
    vertexColors: !!deviation,
    flatShading: true, // edges are where the surface says, not smoothed away
    roughness: 0.7,
    metalness: deviation ? 0 : 0.15,
  });
  return new THREE.Mesh(geometry, skin);
}
