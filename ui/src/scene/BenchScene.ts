import * as THREE from "three";
import { Line2 } from "three/examples/jsm/lines/Line2.js";
import { LineGeometry } from "three/examples/jsm/lines/LineGeometry.js";
import { LineMaterial } from "three/examples/jsm/lines/LineMaterial.js";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { acceleratedRaycast, MeshBVH } from "three-mesh-bvh";
import type { Blob } from "../api/binary";
import type { Tool, Vec3 } from "../api/types";
import { AXES, DARK, deviationColour, KINDS, LIGHT } from "./colours";
import { section } from "./cutter";
import { nearestEdge } from "./edges";
import type { HeightField } from "./heightfield";

THREE.Mesh.prototype.raycast = acceleratedRaycast;

/** How near to a corner of the part, in pixels, a click is meant for it. */
const CATCH = 9;
const DRAWN = 0xb3541e;
const FIXTURE = 0x8d8aa0;
/** Drawn after the colour of what is picked. */
const OVER = 3;

const round = (value: number, parts: number) => Math.round(value * parts) / parts;

export interface Hit {
  face: number;
  point: Vec3;
  /** The edge of the part that is near, if one is. */
  edge?: number | null;
}

/** The one scene of the bench: part, stock, path, tool, axes. Draws only when something changed. */
export class BenchScene {
  readonly renderer: THREE.WebGLRenderer;
  private readonly scene = new THREE.Scene();
  private readonly camera = new THREE.PerspectiveCamera(32, 1, 0.1, 20000);
  private readonly controls: OrbitControls;
  private readonly partGroup = new THREE.Group();
  private readonly sideFrame = new THREE.Matrix4();
  private readonly layers = new Map<string, THREE.Object3D>();
  private partMesh: THREE.Mesh | null = null;
  private faceStarts: Int32Array = new Int32Array();
  private corners: THREE.Vector3[] = [];
  /** Points of every edge, in the part's frame. */
  private edges: THREE.Vector3[][] = [];
  private drawnAt = 0;
  private colours = LIGHT;
  private asked = false;
  private fieldMesh: THREE.Mesh | null = null;
  private field: HeightField | null = null;

  constructor(readonly canvas: HTMLCanvasElement) {
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: true });
    this.renderer.setPixelRatio(Math.min(2, window.devicePixelRatio));
    this.camera.up.set(0, 0, 1);
    this.controls = new OrbitControls(this.camera, canvas);
    this.controls.addEventListener("change", () => this.ask());
    const sky = new THREE.HemisphereLight(0xffffff, 0x8a8577, 1.7);
    sky.position.set(0, 0, 1);
    const lamp = new THREE.DirectionalLight(0xffffff, 1.5);
    lamp.position.set(-0.5, -1, 1.6);
    this.camera.add(new THREE.DirectionalLight(0xffffff, 0.5));
    this.scene.add(sky, lamp, this.camera, this.partGroup);
    this.setDark(false);
    this.look([1, -1.35, 0.95]);
  }

  dispose() {
    this.removeShared("copies");
    for (const name of [...this.layers.keys()]) this.clear(name);
    this.controls.dispose();
    this.renderer.dispose();
  }

  ask() {
    if (this.asked) return;
    this.asked = true;
    requestAnimationFrame(() => {
      this.asked = false;
      this.renderer.render(this.scene, this.camera);
    });
  }

  resize(width: number, height: number) {
    this.renderer.setSize(width, height, false);
    this.camera.aspect = width / Math.max(1, height);
    this.camera.updateProjectionMatrix();
    this.ask();
  }

  setDark(dark: boolean) {
    this.colours = dark ? DARK : LIGHT;
    this.scene.background = new THREE.Color(this.colours.ground);
    this.ask();
  }

  /** Turns the camera to look from a direction, at what is there. */
  look(direction: Vec3) {
    const box = this.extent();
    const middle = box.getCenter(new THREE.Vector3());
    const size = box.getSize(new THREE.Vector3()).length() || 100;
    const away = new THREE.Vector3(...direction).normalize();
    if (Math.abs(away.z) > 0.999) away.set(0, -0.001, Math.sign(away.z)).normalize();
    this.camera.position.copy(middle).addScaledVector(away, this.distanceFor(box, middle, away));
    this.camera.near = size / 200;
    this.camera.far = size * 40;
    this.camera.updateProjectionMatrix();
    this.controls.target.copy(middle);
    this.controls.update();
    this.ask();
  }

  /** How far away the camera must be for every corner of a box to lie well inside the picture. */
  private distanceFor(box: THREE.Box3, middle: THREE.Vector3, away: THREE.Vector3): number {
    const right = new THREE.Vector3(0, 0, 1).cross(away).normalize();
    const up = away.clone().cross(right);
    const half = Math.tan(THREE.MathUtils.degToRad(this.camera.fov / 2)) * 0.82;
    let far = 0;
    for (const x of [box.min.x, box.max.x])
      for (const y of [box.min.y, box.max.y])
        for (const z of [box.min.z, box.max.z]) {
          const arm = new THREE.Vector3(x, y, z).sub(middle);
          const wide = Math.abs(arm.dot(right)) / (half * this.camera.aspect);
          far = Math.max(far, arm.dot(away) + Math.max(wide, Math.abs(arm.dot(up)) / half));
        }
    return far;
  }

  private extent(): THREE.Box3 {
    const box = new THREE.Box3();
    for (const name of ["part", "copies", "stockBox", "stock"]) {
      const layer = this.layers.get(name);
      if (layer?.visible) box.expandByObject(layer);
    }
    if (box.isEmpty()) box.set(new THREE.Vector3(-50, -50, -20), new THREE.Vector3(50, 50, 20));
    return box;
  }

  private clear(name: string) {
    const old = this.layers.get(name);
    if (!old) return;
    old.removeFromParent();
    old.traverse((o) => {
      const mesh = o as THREE.Mesh;
      mesh.geometry?.dispose();
      const material = mesh.material as THREE.Material | undefined;
      material?.dispose?.();
    });
    this.layers.delete(name);
    this.ask();
  }

  private put(name: string, thing: THREE.Object3D, parent: THREE.Object3D = this.scene) {
    this.clear(name);
    this.layers.set(name, thing);
    parent.add(thing);
    this.ask();
  }

  show(name: string, visible: boolean) {
    const layer = this.layers.get(name);
    if (layer && layer.visible !== visible) {
      layer.visible = visible;
      this.ask();
    }
  }

  has(name: string) {
    return this.layers.has(name);
  }

  remove(name: string) {
    this.clear(name);
    if (name === "field") this.fieldMesh = this.field = null;
  }

  setPart(blob: Blob) {
    this.removeShared("copies");
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(blob.arrays.vertices, 3));
    const shown = geometry.clone();
    shown.setIndex(new THREE.BufferAttribute(new Uint32Array(blob.arrays.triangles), 1));
    const faceted = shown.toNonIndexed();
    faceted.computeVertexNormals();
    const body = new THREE.Mesh(
      faceted,
      new THREE.MeshStandardMaterial({
        color: this.colours.part,
        roughness: 0.75,
        metalness: 0.1,
        polygonOffset: true,
        polygonOffsetFactor: 1,
        polygonOffsetUnits: 1,
      }),
    );
    (faceted as THREE.BufferGeometry & { boundsTree?: MeshBVH }).boundsTree = new MeshBVH(faceted, {
      indirect: true,
    });
    this.partMesh = body;
    this.faceStarts = blob.arrays.face_starts as Int32Array;
    const group = new THREE.Group();
    group.add(body, this.edgeLines(blob));
    this.put("part", group, this.partGroup);
  }

  private edgeLines(blob: Blob): THREE.LineSegments {
    const points = blob.arrays.edge_points as Float32Array;
    const counts = blob.arrays.edge_counts as Int32Array;
    const index: number[] = [];
    let at = 0;
    this.corners = [];
    this.edges = [];
    for (const count of counts) {
      for (let i = 0; i + 1 < count; i++) index.push(at + i, at + i + 1);
      this.edges.push(
        Array.from({ length: count }, (_, i) => new THREE.Vector3().fromArray(points, 3 * (at + i))),
      );
      for (const end of [at, at + count - 1])
        this.corners.push(new THREE.Vector3().fromArray(points, 3 * end));
      at += count;
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
    geometry.setIndex(index);
    return new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: this.colours.edge }));
  }

  /** Places the part: 4 x 4 rows from part to the shown frame, null for the part's own. */
  setPartFrame(rows: number[][] | null) {
    const matrix = new THREE.Matrix4();
    if (rows) matrix.set(...(rows.flat() as Parameters<THREE.Matrix4["set"]>));
    this.partGroup.matrixAutoUpdate = false;
    this.partGroup.matrix.copy(matrix);
    this.partGroup.updateMatrixWorld(true);
    this.ask();
  }

  /** Shows the part once more at every shift but the first, which is its own place. */
  setCopies(rows: number[][] | null, shifts: Vec3[]) {
    this.removeShared("copies");
    const one = this.layers.get("part");
    if (!one || !rows || shifts.length < 2) return;
    const frame = new THREE.Matrix4().set(...(rows.flat() as Parameters<THREE.Matrix4["set"]>));
    const group = new THREE.Group();
    for (const shift of shifts.slice(1)) {
      const copy = one.clone();
      copy.matrixAutoUpdate = false;
      copy.matrix.copy(new THREE.Matrix4().makeTranslation(...shift).multiply(frame));
      group.add(copy);
    }
    group.visible = one.visible;
    this.layers.set("copies", group);
    this.scene.add(group);
    group.updateMatrixWorld(true);
    this.ask();
  }

  /** Takes away a layer whose geometry belongs to another. */
  private removeShared(name: string) {
    this.layers.get(name)?.removeFromParent();
    this.layers.delete(name);
    this.ask();
  }

  /** The shape of a stock that is no box, see-through, in the shown frame. */
  setStockShape(blob: Blob | null) {
    this.setSolid("stockShape", blob, { color: this.colours.stock, opacity: 0.45, depthWrite: false });
  }

  /** What holds the stock, in the shown frame. */
  setFixture(blob: Blob | null) {
    this.setSolid("fixture", blob, { color: FIXTURE, opacity: 0.85 });
  }

  private setSolid(name: string, blob: Blob | null, look: THREE.MeshStandardMaterialParameters) {
    this.clear(name);
    if (!blob) return;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(blob.arrays.vertices as Float32Array, 3));
    geometry.setIndex(new THREE.BufferAttribute(new Uint32Array(blob.arrays.triangles), 1));
    const skin = new THREE.MeshStandardMaterial({ transparent: true, flatShading: true, ...look });
    this.put(name, new THREE.Mesh(geometry, skin));
  }

  setPartGhost(ghost: boolean) {
    if (!this.partMesh) return;
    const material = this.partMesh.material as THREE.MeshStandardMaterial;
    material.transparent = ghost;
    material.opacity = ghost ? 0.35 : 1;
    material.depthWrite = !ghost;
    material.needsUpdate = true;
    this.ask();
  }

  /** The line of sight through a point of the canvas (-1..1). */
  private rayAt(x: number, y: number) {
    const ray = new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2(x, y), this.camera);
    return ray;
  }

  /** Where a ray meets the part or one of its copies first. */
  private hitBy(ray: THREE.Raycaster) {
    const copies = this.layers.get("copies")?.children.map((copy) => copy.children[0]) ?? [];
    return this.partMesh ? ray.intersectObjects([this.partMesh, ...copies], false)[0] : undefined;
  }

  /** What lies under a point of the canvas (-1..1), in the part's frame. */
  pick(x: number, y: number): Hit | null {
    if (!this.partMesh || !this.layers.get("part")?.visible) return null;
    const hit = this.hitBy(this.rayAt(x, y));
    if (!hit || hit.faceIndex == null) return null;
    let low = 0;
    let high = this.faceStarts.length - 1;
    while (high - low > 1) {
      const mid = (low + high) >> 1;
      if (this.faceStarts[mid] <= hit.faceIndex) low = mid;
      else high = mid;
    }
    const point = hit.object.worldToLocal(hit.point.clone());
    return { face: low + 1, point: [point.x, point.y, point.z], edge: this.edgeAt(x, y, hit) };
  }

  private edgeAt(x: number, y: number, hit: THREE.Intersection) {
    const size = this.renderer.getSize(new THREE.Vector2());
    return nearestEdge(this.edges, hit, this.camera, size, new THREE.Vector2(x, y), CATCH);
  }

  /** The place in the shown frame (X, Y, mm) under a point of the canvas (-1..1): a corner of the part that is near, else
   * what is hit, else the plane on which an area is drawn. */
  cornerAt(x: number, y: number): [number, number] | null {
    const size = this.renderer.getSize(new THREE.Vector2());
    let [nearest, best] = [null as THREE.Vector3 | null, CATCH];
    for (const corner of this.corners) {
      const there = corner.clone().applyMatrix4(this.partGroup.matrix);
      const seen = there.clone().project(this.camera);
      const away = Math.hypot(((seen.x - x) * size.x) / 2, ((seen.y - y) * size.y) / 2);
      if (away < best) [nearest, best] = [there, away];
    }
    if (nearest) return [round(nearest.x, 1000), round(nearest.y, 1000)];
    const ray = this.rayAt(x, y);
    const plane = new THREE.Plane(new THREE.Vector3(0, 0, 1), -this.drawnAt);
    const hit = this.hitBy(ray)?.point ?? ray.ray.intersectPlane(plane, new THREE.Vector3());
    return hit ? [round(hit.x, 10), round(hit.y, 10)] : null;
  }

  /** The corners of an area (mm, shown frame) and the lines between them, at a height. */
  setDrawing(corners: [number, number][], height: number) {
    this.clear("drawing");
    this.drawnAt = height;
    if (corners.length === 0) return;
    const geometry = new THREE.BufferGeometry().setFromPoints(
      corners.map(([x, y]) => new THREE.Vector3(x, y, height)),
    );
    const group = new THREE.Group();
    const line = { color: DRAWN, depthTest: false };
    group.add(
      new THREE.LineLoop(geometry, new THREE.LineBasicMaterial(line)),
      new THREE.Points(
        geometry.clone(),
        new THREE.PointsMaterial({ ...line, size: 8, sizeAttenuation: false }),
      ),
    );
    this.put("drawing", group);
  }

  mark(name: "hover" | "picked", faces: number[]) {
    this.clear(name);
    if (!this.partMesh || faces.length === 0) return;
    const source = this.partMesh.geometry.getAttribute("position").array as Float32Array;
    const pieces = faces
      .filter((f) => f >= 1 && f < this.faceStarts.length)
      .map((f) => source.subarray(this.faceStarts[f - 1] * 9, this.faceStarts[f] * 9));
    const all = new Float32Array(pieces.reduce((n, p) => n + p.length, 0));
    let at = 0;
    for (const piece of pieces) {
      all.set(piece, at);
      at += piece.length;
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(all, 3));
    geometry.computeVertexNormals();
    const material = new THREE.MeshStandardMaterial({
      color: name === "hover" ? this.colours.hover : this.colours.picked,
      roughness: 0.8,
      transparent: true,
      opacity: name === "hover" ? 0.55 : 0.85,
    });
    this.put(name, new THREE.Mesh(geometry, material), this.partGroup);
  }

  /** Draws edges (ids) of the part over everything. */
  markEdges(ids: number[]) {
    this.clear("edges");
    const found = ids.flatMap((id) => (this.edges[id - 1] ? [this.edges[id - 1]] : []));
    if (found.length === 0) return;
    const group = new THREE.Group();
    const material = new LineMaterial({ color: DRAWN, linewidth: 3, depthTest: false, transparent: true });
    for (const points of found) {
      const line = new Line2(new LineGeometry().setFromPoints(points), material);
      line.renderOrder = OVER;
      group.add(line);
    }
    this.put("edges", group, this.partGroup);
  }

  setMarks(points: Vec3[]) {
    this.clear("marks");
    if (points.length === 0) return;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(points.flat()), 3));
    const material = new THREE.PointsMaterial({
      color: DRAWN,
      size: 9,
      sizeAttenuation: false,
      depthTest: false,
      transparent: true,
    });
    const group = new THREE.Group();
    const marks = new THREE.Points(geometry, material);
    marks.renderOrder = OVER;
    group.add(marks);
    if (points.length === 2) {
      group.add(
        new THREE.Line(geometry.clone(), new THREE.LineBasicMaterial({ color: 0xb3541e, depthTest: false })),
      );
    }
    this.put("marks", group, this.partGroup);
  }

  /** A marker at a place in program coordinates. */
  setPlace(place: Vec3 | null) {
    this.clear("place");
    if (!place) return;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(place), 3));
    this.put(
      "place",
      new THREE.Points(
        geometry,
        new THREE.PointsMaterial({ color: 0x9c2b20, size: 12, sizeAttenuation: false, depthTest: false }),
      ),
    );
  }

  setStockBox(low: Vec3 | null, high: Vec3 | null) {
    this.clear("stockBox");
    if (!low || !high) return;
    const size = new THREE.Vector3(high[0] - low[0], high[1] - low[1], high[2] - low[2]);
    const box = new THREE.BoxGeometry(size.x, size.y, size.z);
    const group = new THREE.Group();
    const skin = new THREE.MeshStandardMaterial({
      color: this.colours.stock,
      transparent: true,
      opacity: 0.16,
      depthWrite: false,
    });
    group.add(
      new THREE.Mesh(box, skin),
      new THREE.LineSegments(new THREE.EdgesGeometry(box), new THREE.LineBasicMaterial({ color: 0x8a7a54 })),
    );
    group.position.set((low[0] + high[0]) / 2, (low[1] + high[1]) / 2, (low[2] + high[2]) / 2);
    this.put("stockBox", group);
  }

  /** Axes at a point of the shown frame: X red, Y green, Z blue. */
  setAxes(length: number | null) {
    this.clear("axes");
    if (!length) return;
    const group = new THREE.Group();
    AXES.forEach((colour, i) => {
      const direction = new THREE.Vector3().setComponent(i, 1);
      const arrow = new THREE.ArrowHelper(
        direction,
        new THREE.Vector3(),
        length,
        colour,
        length * 0.2,
        length * 0.09,
      );
      (arrow.line.material as THREE.LineBasicMaterial).depthTest = false;
      group.add(arrow);
    });
    this.toSide(group);
    this.put("axes", group);
  }

  /** The side whose path and axes are shown: 4 x 4 rows from the side to the setup; null for the setup's own. */
  setSideFrame(rows: number[][] | null) {
    this.sideFrame.identity();
    if (rows) this.sideFrame.set(...(rows.flat() as Parameters<THREE.Matrix4["set"]>));
    for (const name of ["path", "axes"]) this.toSide(this.layers.get(name));
    this.ask();
  }

  private toSide(layer: THREE.Object3D | undefined) {
    if (!layer) return;
    layer.matrixAutoUpdate = false;
    layer.matrix.copy(this.sideFrame);
    layer.updateMatrixWorld(true);
  }

  setPath(blob: Blob | null) {
    this.clear("path");
    if (!blob) return;
    const pieces = blob.arrays.pieces as Float32Array;
    const kind = blob.arrays.kind as Int8Array;
    const colours = new Float32Array(kind.length * 6);
    const feeding: number[] = [];
    const rapid: number[] = [];
    const colour = new THREE.Color();
    for (let i = 0; i < kind.length; i++) {
      colour.setHex(KINDS[kind[i]] ?? KINDS[1]);
      for (const o of [0, 3]) colour.toArray(colours, i * 6 + o);
      (kind[i] === 0 ? rapid : feeding).push(2 * i, 2 * i + 1);
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(pieces, 3));
    geometry.setAttribute("color", new THREE.BufferAttribute(colours, 3));
    const feeds = geometry.clone();
    feeds.setIndex(feeding);
    const rapids = geometry.clone();
    rapids.setIndex(rapid);
    const dashed = new THREE.LineSegments(
      rapids.toNonIndexed(),
      new THREE.LineDashedMaterial({ vertexColors: true, dashSize: 2, gapSize: 2 }),
    );
    dashed.computeLineDistances();
    const group = new THREE.Group();
    group.add(new THREE.LineSegments(feeds, new THREE.LineBasicMaterial({ vertexColors: true })), dashed);
    this.toSide(group);
    this.put("path", group);
  }

  /** The server's stock surface; with `scale` (mm at the colours' ends) coloured by deviation. */
  setStock(blob: Blob | null, scale: number | null) {
    this.clear("stock");
    if (!blob) return;
    const vertices = blob.arrays.vertices as Float32Array;
    const quads = blob.arrays.quads as Int32Array;
    const index = new Uint32Array((quads.length / 4) * 6);
    for (let q = 0, i = 0; q < quads.length; q += 4) {
      index[i++] = quads[q];
      index[i++] = quads[q + 1];
      index[i++] = quads[q + 2];
      index[i++] = quads[q];
      index[i++] = quads[q + 2];
      index[i++] = quads[q + 3];
    }
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
    const material = new THREE.MeshStandardMaterial({
      color: deviation ? 0xffffff : this.colours.stock,
      vertexColors: !!deviation,
      flatShading: true, // edges are where the surface says, not smoothed away
      roughness: 0.7,
      metalness: deviation ? 0 : 0.15,
    });
    this.put("stock", new THREE.Mesh(geometry, material));
  }

  /** Shows a height field; call `drawField` after it has moved. */
  setField(field: HeightField) {
    const { nx, ny, x0, y0, cell } = field;
    const points = new Float32Array(nx * ny * 3);
    for (let j = 0, k = 0; j < ny; j++) {
      for (let i = 0; i < nx; i++) {
        points[k++] = x0 + i * cell;
        points[k++] = y0 + j * cell;
        k++;
      }
    }
    const index = new Uint32Array((nx - 1) * (ny - 1) * 6);
    for (let j = 0, k = 0; j + 1 < ny; j++) {
      for (let i = 0; i + 1 < nx; i++) {
        const a = j * nx + i;
        index.set([a, a + 1, a + nx + 1, a, a + nx + 1, a + nx], k);
        k += 6;
      }
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
    geometry.setIndex(new THREE.BufferAttribute(index, 1));
    const material = new THREE.MeshStandardMaterial({
      color: this.colours.stock,
      roughness: 0.7,
      metalness: 0.15,
      flatShading: true,
      side: THREE.DoubleSide,
    });
    this.fieldMesh = new THREE.Mesh(geometry, material);
    this.fieldMesh.frustumCulled = false;
    this.field = field;
    this.put("field", this.fieldMesh);
    this.drawField();
  }

  drawField() {
    if (!this.fieldMesh || !this.field) return;
    const attribute = this.fieldMesh.geometry.getAttribute("position") as THREE.BufferAttribute;
    const points = attribute.array as Float32Array;
    const heights = this.field.heights;
    for (let k = 0; k < heights.length; k++) points[3 * k + 2] = heights[k];
    attribute.needsUpdate = true;
    this.ask();
  }

  setTool(tool: Tool | null) {
    this.clear("tool");
    if (!tool) return;
    const group = new THREE.Group();
    const lathe = (points: [number, number][], colour: number, opacity = 1) => {
      const geometry = new THREE.LatheGeometry(
        points.map(([r, h]) => new THREE.Vector2(r, h)),
        48,
      ).rotateX(Math.PI / 2);
      const material = new THREE.MeshStandardMaterial({
        color: colour,
        roughness: 0.45,
        metalness: 0.35,
        transparent: opacity < 1,
        opacity,
        side: THREE.DoubleSide,
      });
      group.add(new THREE.Mesh(geometry, material));
    };
    lathe(section(tool), 0xd9a441);
    const half = tool.shank_diameter / 2;
    if (tool.stick_out > tool.flute_length) {
      lathe([[half, tool.flute_length], [half, tool.stick_out]], 0xc9ced3); // prettier-ignore
    }
    let at = tool.stick_out;
    for (const s of tool.holder) {
      lathe(
        [
          [0, at],
          [s.diameter_low / 2, at],
          [s.diameter_high / 2, at + s.length],
          [0, at + s.length],
        ],
        0x8d989f,
        0.75,
      );
      at += s.length;
    }
    this.put("tool", group);
  }

  placeTool(tip: Vec3, axis: Vec3 = [0, 0, 1]) {
    const tool = this.layers.get("tool");
    tool?.position.set(...tip);
    tool?.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), new THREE.Vector3(...axis));
    this.ask();
  }
}
