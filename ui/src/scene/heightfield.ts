import type { CutterShape } from "./cutter";

/**
 * Three-axis removal replayed in the browser: a height field with keyframes, so that any moment is
 * reached from the nearest one before it. For the eye only; the server's surfaces are what counts.
 */

export interface Motion {
  pieces: Float32Array;
  endsAt: Float32Array;
  tool: Int32Array;
}

interface Triangles {
  vertices?: ArrayLike<number>;
  triangles?: ArrayLike<number>;
}

/**
 * The heights of a stock before the first move on a grid over its box, with a rim of empty ground that draws its sides:
 * a full box, or the upper side of triangles.
 */
export function groundOf(
  min: readonly number[],
  max: readonly number[],
  cell: number,
  shape?: Triangles,
): Float32Array {
  const nx = Math.round((max[0] - min[0]) / cell) + 3;
  const ny = Math.round((max[1] - min[1]) / cell) + 3;
  const start = new Float32Array(nx * ny).fill(min[2]);
  const { vertices, triangles } = shape ?? {};
  if (!vertices || !triangles) {
    for (let j = 1; j < ny - 1; j++) start.fill(max[2], j * nx + 1, (j + 1) * nx - 1);
    return start;
  }
  const x0 = min[0] - cell;
  const y0 = min[1] - cell;
  for (let t = 0; t < triangles.length; t += 3) {
    const [a, b, c] = [3 * triangles[t], 3 * triangles[t + 1], 3 * triangles[t + 2]];
    const [ax, ay, bx, by] = [vertices[a], vertices[a + 1], vertices[b], vertices[b + 1]];
    const [cx, cy] = [vertices[c], vertices[c + 1]];
    const twice = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax);
    if (twice <= 1e-12) continue; // looks down, or stands upright
    const i0 = Math.max(1, Math.ceil((Math.min(ax, bx, cx) - x0) / cell - 1e-6));
    const i1 = Math.min(nx - 2, Math.floor((Math.max(ax, bx, cx) - x0) / cell + 1e-6));
    const j0 = Math.max(1, Math.ceil((Math.min(ay, by, cy) - y0) / cell - 1e-6));
    const j1 = Math.min(ny - 2, Math.floor((Math.max(ay, by, cy) - y0) / cell + 1e-6));
    for (let j = j0; j <= j1; j++) {
      for (let i = i0; i <= i1; i++) {
        const x = x0 + i * cell - ax;
        const y = y0 + j * cell - ay;
        const u = (x * (cy - ay) - y * (cx - ax)) / twice;
        const v = (y * (bx - ax) - x * (by - ay)) / twice;
        if (u < -1e-6 || v < -1e-6 || u + v > 1 + 1e-6) continue;
        const z =
          vertices[a + 2] + u * (vertices[b + 2] - vertices[a + 2]) + v * (vertices[c + 2] - vertices[a + 2]);
        if (z > start[j * nx + i]) start[j * nx + i] = z;
      }
    }
  }
  return start;
}

/** Grid points that are looked at between two keyframes: a few ms of work. */
const FRAME_WORK = 400_000;
/** More keyframes than these are thinned out. */
const MOST_FRAMES = 160;

/** The stock after so many pieces. */
interface Frame {
  done: number;
  heights: Float32Array;
}

export class HeightField {
  readonly heights: Float32Array;
  /** Whether the last call of `goTo` ran out of its time before it got there. */
  behind = false;
  private frames: Frame[];
  private done = 0;
  /** Goes ahead of what is shown and leaves keyframes. */
  private readonly scout: Frame;
  private frameWork = FRAME_WORK;
  private sinceFrame = 0;

  constructor(
    readonly x0: number,
    readonly y0: number,
    readonly cell: number,
    readonly nx: number,
    readonly ny: number,
    readonly bottom: number,
    start: Float32Array,
    private readonly motion: Motion,
    private readonly shapes: Map<number, CutterShape>,
  ) {
    this.heights = start.slice();
    this.frames = [{ done: 0, heights: start.slice() }];
    this.scout = { done: 0, heights: start.slice() };
  }

  get count() {
    return this.motion.endsAt.length;
  }

  /** Brings the field to a time, for `most` ms at most; returns whether anything changed. */
  goTo(time: number, most = Infinity): boolean {
    const target = this.indexAt(time);
    const partial = this.partialPiece(target, time);
    if (target === this.done && partial === null && !this.dirty) return false;
    const nearest = this.frameBefore(target);
    if (target < this.done || this.dirty || nearest.done > this.done) this.restore(nearest);
    const until = performance.now() + most;
    this.behind = false;
    while (this.done < target && !this.behind) {
      this.stamp(this.heights, this.done++, 1);
      this.behind = this.done % 16 === 0 && this.done < target && performance.now() > until;
    }
    this.dirty = false;
    if (partial !== null && target < this.count && !this.behind) {
      this.stamp(this.heights, target, partial);
      this.dirty = true;
    }
    return true;
  }

  /** Cuts ahead for so many ms, so that any moment is near a keyframe; whether there is more to cut. */
  cutAhead(most: number): boolean {
    const until = performance.now() + most;
    const { scout } = this;
    while (scout.done < this.count) {
      this.sinceFrame += this.stamp(scout.heights, scout.done++, 1);
      if (this.sinceFrame > this.frameWork) this.keep();
      if (scout.done % 16 === 0 && performance.now() > until) return true;
    }
    return false;
  }

  private keep() {
    this.sinceFrame = 0;
    this.frames.push({ done: this.scout.done, heights: this.scout.heights.slice() });
    if (this.frames.length <= MOST_FRAMES) return;
    this.frames = this.frames.filter((_, i) => i % 2 === 0);
    this.frameWork *= 2;
  }

  private dirty = false;

  private frameBefore(target: number): Frame {
    let best = this.frames[0];
    for (const frame of this.frames) if (frame.done <= target) best = frame;
    return best;
  }

  private restore(frame: Frame) {
    this.heights.set(frame.heights);
    this.done = frame.done;
  }

  /** Number of pieces that have ended at a time. */
  indexAt(time: number): number {
    let low = 0;
    let high = this.motion.endsAt.length;
    while (low < high) {
      const mid = (low + high) >> 1;
      if (this.motion.endsAt[mid] <= time + 1e-6) low = mid + 1;
      else high = mid;
    }
    return low;
  }

  private partialPiece(index: number, time: number): number | null {
    if (index >= this.count) return null;
    const from = index > 0 ? this.motion.endsAt[index - 1] : 0;
    const span = this.motion.endsAt[index] - from;
    const share = span > 0 ? (time - from) / span : 0;
    return share > 0.001 && share < 1 ? share : null;
  }

  /** Cuts a share of a piece out of heights; gives how many grid points it looked at. */
  private stamp(heights: Float32Array, index: number, share: number): number {
    const p = this.motion.pieces;
    const o = index * 6;
    const shape = this.shapes.get(this.motion.tool[index]);
    if (!shape) return 0;
    const { radius, rise } = shape;
    const scale = (rise.length - 1) / radius;
    const ax = p[o];
    const ay = p[o + 1];
    const az = p[o + 2];
    const dx = (p[o + 3] - ax) * share;
    const dy = (p[o + 4] - ay) * share;
    const dz = (p[o + 5] - az) * share;
    const { cell, x0, y0, nx, ny } = this;
    const i0 = Math.max(0, Math.ceil((Math.min(ax, ax + dx) - radius - x0) / cell));
    const i1 = Math.min(nx - 1, Math.floor((Math.max(ax, ax + dx) + radius - x0) / cell));
    const j0 = Math.max(0, Math.ceil((Math.min(ay, ay + dy) - radius - y0) / cell));
    const j1 = Math.min(ny - 1, Math.floor((Math.max(ay, ay + dy) + radius - y0) / cell));
    const square = dx * dx + dy * dy;
    const lowest = Math.min(az, az + dz);
    for (let j = j0; j <= j1; j++) {
      const cy = y0 + j * cell;
      for (let i = i0; i <= i1; i++) {
        const k = j * nx + i;
        if (heights[k] <= lowest) continue;
        const cx = x0 + i * cell;
        let t = dz > 0 ? 0 : 1;
        if (square > 0) t = Math.min(1, Math.max(0, ((cx - ax) * dx + (cy - ay) * dy) / square));
        const ex = cx - ax - t * dx;
        const ey = cy - ay - t * dy;
        const d2 = ex * ex + ey * ey;
        if (d2 > radius * radius) continue;
        let z = az + t * dz;
        const at = Math.sqrt(d2) * scale;
        const below = Math.min(rise.length - 2, Math.floor(at));
        z += rise[below] + (at - below) * (rise[below + 1] - rise[below]);
        if (z < heights[k]) heights[k] = Math.max(z, this.bottom);
      }
    }
    return Math.max(0, i1 - i0 + 1) * Math.max(0, j1 - j0 + 1) + 8;
  }
}

/** Where a tool is: its tip, on which piece of the motion and at which share of it. */
export interface Pose {
  tip: [number, number, number];
  tool: number;
  piece: number;
  share: number;
}

/** Where the tool is at a time, and with which tool. */
export function poseAt(motion: Motion, time: number): Pose {
  const n = motion.endsAt.length;
  let low = 0;
  let high = n;
  while (low < high) {
    const mid = (low + high) >> 1;
    if (motion.endsAt[mid] <= time) low = mid + 1;
    else high = mid;
  }
  const i = Math.min(low, n - 1);
  const from = i > 0 ? motion.endsAt[i - 1] : 0;
  const span = motion.endsAt[i] - from;
  const t = low >= n ? 1 : span > 0 ? Math.min(1, Math.max(0, (time - from) / span)) : 1;
  const p = motion.pieces;
  const o = i * 6;
  const tip = [0, 1, 2].map((k) => p[o + k] + (p[o + 3 + k] - p[o + k]) * t) as [number, number, number];
  return { tip, tool: motion.tool[i], piece: i, share: t };
}

/** The tool's axis at a pose, from the tip to the spindle; `axes` are those at both ends of every piece. */
export function axisAt(axes: Float32Array | undefined, pose: Pose): [number, number, number] {
  if (!axes) return [0, 0, 1];
  const o = pose.piece * 6;
  const axis = [0, 1, 2].map((k) => axes[o + k] + (axes[o + 3 + k] - axes[o + k]) * pose.share);
  const length = Math.hypot(...axis) || 1;
  return axis.map((v) => v / length) as [number, number, number];
}
