import type { Blob } from "../../api/binary";
import type { Machine, ProofFacts } from "../../api/types";
import { inChain } from "../../scene/chain";

export const HEIGHT = 98;
const BUCKETS = 900;
/** Bodies farther apart than this are not told apart by the proof. */
const APART_MM = 100;

/** What the strip draws over time, in even steps: load, feed, height, and whose operation it is. */
export interface Traces {
  feeds: Float32Array;
  loads: Float32Array;
  heights: Float32Array;
  owner: Int16Array;
  heaviest: number;
  most: number;
  lowest: number;
  highest: number;
}

/** When rotary joints turn at rapid, from and to in seconds: one entry for moves that follow each other. `rotary` are
 * their places among the joints. */
export function indexMoves(motion: Blob, rotary: number[]): [number, number][] {
  const { joints, ends_at: ends, rapid } = motion.arrays;
  const count = joints ? joints.length / ends.length : 0;
  const out: [number, number][] = [];
  for (let i = 1; joints && i < ends.length; i++) {
    const turned = rotary.some((j) => Math.abs(joints[i * count + j] - joints[(i - 1) * count + j]) > 1e-3);
    if (!turned || !rapid[i]) continue;
    const last = out[out.length - 1];
    if (last && last[1] === ends[i - 1]) last[1] = ends[i];
    else out.push([ends[i - 1], ends[i]]);
  }
  return out;
}

/** The traces of a posted motion that takes `total` s. */
export function tracesOf(motion: Blob, total: number): Traces {
  const { ends_at: ends, feed, pieces, step, power } = motion.arrays;
  const feeds = new Float32Array(BUCKETS);
  const loads = new Float32Array(BUCKETS);
  const heights = new Float32Array(BUCKETS).fill(NaN);
  const owner = new Int16Array(BUCKETS).fill(-1);
  let highest = -Infinity;
  let lowest = Infinity;
  for (let i = 0; i < ends.length; i++) {
    const z = pieces[6 * i + 5];
    if (z > highest) highest = z;
    if (z < lowest) lowest = z;
    const a = Math.floor(((i ? ends[i - 1] : 0) / total) * BUCKETS);
    const b = Math.floor((ends[i] / total) * BUCKETS);
    for (let k = Math.max(0, a); k <= Math.min(BUCKETS - 1, b); k++) {
      feeds[k] = Math.max(feeds[k], feed[i]);
      loads[k] = Math.max(loads[k], power[i]);
      heights[k] = z;
      owner[k] = step[i];
    }
  }
  const heaviest = Math.max(...loads, 1e-6);
  return { feeds, loads, heaviest, heights, owner, highest, lowest, most: Math.max(...feeds, 1) };
}

/** A joint's position over time in even steps, as a share of its travel (of what it uses, where it has no end). */
export interface JointTrace {
  name: string;
  values: Float32Array;
  low: number;
  high: number;
}

/** Where the joints between work and tool stand over time. */
export function jointTraces(motion: Blob, machine: Machine, total: number): JointTrace[] {
  const { joints, ends_at: ends } = motion.arrays;
  if (!joints) return [];
  const names = inChain(machine);
  return names.map((name, j) => {
    const joint = machine.joints.find((one) => one.name === name)!;
    const values = new Float32Array(BUCKETS).fill(NaN);
    let [least, most] = [Infinity, -Infinity];
    for (let i = 0; i < ends.length; i++) {
      const value = joints[i * names.length + j];
      [least, most] = [Math.min(least, value), Math.max(most, value)];
      const a = Math.floor(((i ? ends[i - 1] : 0) / total) * BUCKETS);
      const b = Math.floor((ends[i] / total) * BUCKETS);
      for (let k = Math.max(0, a); k <= Math.min(BUCKETS - 1, b); k++) values[k] = value;
    }
    const [low, high] = [joint.low ?? least, joint.high ?? most];
    return { name: joint.letter || joint.name, values, low, high: high > low ? high : low + 1 };
  });
}

/** How far what goes with the tool is from what goes with the work over time, up to so much mm; looked at now and
 * then, joined by lines. */
export function apartTrace(motion: Blob, total: number): JointTrace[] {
  const { apart_at: times, apart } = motion.arrays;
  if (!apart?.length) return [];
  const values = new Float32Array(BUCKETS).fill(NaN);
  for (let i = 1; i < apart.length; i++) {
    const [a, b] = [i - 1, i].map((k) => (times[k] / total) * BUCKETS);
    for (let k = Math.max(0, Math.floor(a)); k <= Math.min(BUCKETS - 1, Math.floor(b)); k++) {
      const share = b > a ? Math.min(1, Math.max(0, (k - a) / (b - a))) : 1;
      const value = apart[i - 1] + (apart[i] - apart[i - 1]) * share;
      values[k] = Number.isNaN(values[k]) ? value : Math.min(values[k], value);
    }
  }
  return [{ name: "tool to work", values, low: 0, high: APART_MM }];
}

/** Draws all of the strip but the moment that is looked at; `turns` are the index moves, `joints` are traced in place of
 * load, feed and height where they are given. */
export function drawStrip(
  g: CanvasRenderingContext2D,
  width: number,
  facts: ProofFacts,
  traces: Traces,
  turns: [number, number][] = [],
  joints?: readonly JointTrace[],
) {
  const style = getComputedStyle(window.document.documentElement);
  const [ink, rule, accent, faint, paper] = ["ink", "rule", "accent", "faint", "paper"].map((name) =>
    style.getPropertyValue(`--${name}`),
  );
  const total = facts.time_s;
  g.clearRect(0, 0, width, HEIGHT);
  g.font = "11px 'IBM Plex Sans', sans-serif";
  const n = traces.owner.length;
  const x = (k: number) => (k / n) * width;
  const name = (text: string, from: number, to: number) => {
    g.save();
    g.beginPath();
    g.rect(from, 0, to - from - 4, 17);
    g.clip();
    g.fillStyle = ink;
    g.fillText(text, from + 4, 12);
    g.restore();
  };
  let start = 0;
  for (let k = 1; k <= n; k++) {
    if (k < n && traces.owner[k] === traces.owner[start]) continue;
    const step = traces.owner[start];
    if (step >= 0) {
      g.fillStyle = step % 2 ? rule : "transparent";
      g.fillRect(x(start), 0, x(k) - x(start), 17);
      name(`T${facts.operations[step].tool} ${facts.operations[step].name}`, x(start), x(k));
      g.strokeStyle = ink;
      g.beginPath();
      g.moveTo(x(start) + 0.5, 0);
      g.lineTo(x(start) + 0.5, HEIGHT);
      g.stroke();
    }
    start = k;
  }
  // what runs in other setups of the program meanwhile
  for (const other of facts.program.filter((s) => s.setup !== facts.setup)) {
    const [from, to] = [other.begin_s, other.end_s].map((t) => (t / total) * width);
    g.fillStyle = faint;
    g.globalAlpha = 0.25;
    g.fillRect(from, 0, to - from, HEIGHT);
    g.globalAlpha = 1;
    name(`${other.offset} T${other.tool} ${other.name}`, from, to);
  }
  for (const [from, to] of turns) {
    const [left, right] = [from, to].map((t) => (t / total) * width);
    g.fillStyle = accent;
    g.globalAlpha = 0.3;
    g.fillRect(left, 17, Math.max(1.5, right - left), HEIGHT - 17);
    g.globalAlpha = 1;
    g.fillText("↻", left + 2, 28);
  }
  const trace = (values: Float32Array, range: [number, number], [top, bottom]: [number, number]) => {
    g.beginPath();
    let pen = false;
    for (let k = 0; k < n; k++) {
      if (Number.isNaN(values[k])) continue;
      const y = bottom - ((values[k] - range[0]) / Math.max(range[1] - range[0], 1e-9)) * (bottom - top);
      if (pen) g.lineTo(x(k), y);
      else g.moveTo(x(k), y);
      pen = true;
    }
    g.stroke();
  };
  const word = (text: string, y: number, colour: string) => {
    g.fillStyle = paper;
    g.globalAlpha = 0.75;
    g.fillRect(0, y - 10, g.measureText(text).width + 6, 13);
    g.globalAlpha = 1;
    g.fillStyle = colour;
    g.fillText(text, 3, y);
  };
  if (joints) {
    const room = (HEIGHT - 21) / Math.max(1, joints.length);
    joints.forEach((joint, i) => {
      const [top, bottom] = [21 + i * room, 21 + (i + 1) * room - 3];
      g.strokeStyle = rule;
      for (const y of [top, bottom]) {
        g.beginPath();
        g.moveTo(0, Math.round(y) + 0.5);
        g.lineTo(width, Math.round(y) + 0.5);
        g.stroke();
      }
      g.strokeStyle = i % 2 ? accent : ink;
      trace(joint.values, [joint.low, joint.high], [top, bottom]);
      word(`${joint.name} ${Math.round(joint.low)} to ${Math.round(joint.high)}`, top + room - 5, ink);
    });
  } else {
    g.strokeStyle = ink;
    trace(traces.loads, [0, traces.heaviest], [21, 43]);
    g.strokeStyle = accent;
    trace(traces.feeds, [0, traces.most], [47, 67]);
    g.strokeStyle = faint;
    trace(traces.heights, [traces.lowest, traces.highest], [71, 95]);
    word(`load, to ${traces.heaviest.toPrecision(2)} kW`, 42, ink);
    word("feed", 66, accent);
    word("height", 94, faint);
  }
  for (const f of facts.findings) {
    if (f.move < 0) continue;
    const at = (f.time_s / total) * width;
    g.fillStyle = style.getPropertyValue(
      f.severity === "stop" ? "--stop" : f.severity === "caution" ? "--caution" : "--accent",
    );
    g.beginPath();
    g.moveTo(at, 17);
    g.lineTo(at + 5, f.severity === "stop" ? 22 : 26);
    if (f.severity === "stop") g.lineTo(at, 27);
    g.lineTo(at - 5, f.severity === "stop" ? 22 : 26);
    g.fill();
  }
}
