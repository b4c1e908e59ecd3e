import { ActionIcon, SegmentedControl } from "@mantine/core";
import {
  IconPlayerPause,
  IconPlayerPlay,
  IconPlayerSkipBack,
  IconPlayerTrackPrev,
} from "@tabler/icons-react";
import { useCallback, useEffect, useMemo, useRef } from "react";
import { useBlob } from "../../api/hooks";
import { clock, useShared } from "../../session/context";
import { offsetOf } from "../../session/machines";
import { useSession } from "../../session/store";
import { useChosenProof } from "../../session/proof";

const HEIGHT = 98;
const SPEEDS = ["1", "5", "20", "100"];

/** The program on one time axis: a band per operation, traces of feed and height, findings. */
export function RunStrip() {
  const { document, library } = useShared();
  const { release, facts } = useChosenProof();
  const setup = document.setups.find((s) => s.name === facts?.setup);
  const offset = offsetOf(document, library, setup);
  const motion = useBlob(release?.state === "ready" && facts ? `/proofs/${release.key}/motion` : null);
  const { time, playing, speed, set } = useSession();
  const canvas = useRef<HTMLCanvasElement>(null);
  const total = facts?.time_s ?? 0;
  usePlaying(total);

  const traces = useMemo(() => {
    if (!motion.data || !facts) return null;
    const ends = motion.data.arrays.ends_at;
    const feed = motion.data.arrays.feed;
    const pieces = motion.data.arrays.pieces;
    const step = motion.data.arrays.step;
    const buckets = 900;
    const feeds = new Float32Array(buckets);
    const power = motion.data.arrays.power;
    const loads = new Float32Array(buckets);
    const heights = new Float32Array(buckets).fill(NaN);
    const owner = new Int16Array(buckets).fill(-1);
    let highest = -Infinity;
    let lowest = Infinity;
    for (let i = 0; i < ends.length; i++) {
      const z = pieces[6 * i + 5];
      if (z > highest) highest = z;
      if (z < lowest) lowest = z;
      const a = Math.floor(((i ? ends[i - 1] : 0) / total) * buckets);
      const b = Math.floor((ends[i] / total) * buckets);
      for (let k = Math.max(0, a); k <= Math.min(buckets - 1, b); k++) {
        feeds[k] = Math.max(feeds[k], feed[i]);
        loads[k] = Math.max(loads[k], power[i]);
        heights[k] = z;
        owner[k] = step[i];
      }
    }
    const heaviest = Math.max(...loads, 1e-6);
    return { feeds, loads, heaviest, heights, owner, highest, lowest, most: Math.max(...feeds, 1) };
  }, [motion.data, facts, total]);

  const draw = useCallback(() => {
    const c = canvas.current;
    if (!c || !facts || !traces) return;
    const width = c.clientWidth;
    const ratio = window.devicePixelRatio || 1;
    c.width = width * ratio;
    c.height = HEIGHT * ratio;
    const g = c.getContext("2d")!;
    g.scale(ratio, ratio);
    const style = getComputedStyle(window.document.documentElement);
    const ink = style.getPropertyValue("--ink");
    const rule = style.getPropertyValue("--rule");
    const accent = style.getPropertyValue("--accent");
    const faint = style.getPropertyValue("--faint");
    g.clearRect(0, 0, width, HEIGHT);
    g.font = "11px 'IBM Plex Sans', sans-serif";
    const n = traces.owner.length;
    const x = (k: number) => (k / n) * width;
    let start = 0;
    for (let k = 1; k <= n; k++) {
      if (k < n && traces.owner[k] === traces.owner[start]) continue;
      const step = traces.owner[start];
      if (step >= 0) {
        g.fillStyle = step % 2 ? rule : "transparent";
        g.fillRect(x(start), 0, x(k) - x(start), 17);
        g.fillStyle = ink;
        const name = `T${facts.operations[step].tool} ${facts.operations[step].name}`;
        g.save();
        g.beginPath();
        g.rect(x(start), 0, x(k) - x(start) - 4, 17);
        g.clip();
        g.fillText(name, x(start) + 4, 12);
        g.restore();
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
      g.save();
      g.beginPath();
      g.rect(from, 0, to - from - 4, 17);
      g.clip();
      g.fillStyle = ink;
      g.fillText(`${other.offset} T${other.tool} ${other.name}`, from + 4, 12);
      g.restore();
    }
    const trace = (
      values: Float32Array,
      low: number,
      high: number,
      top: number,
      bottom: number,
      colour: string,
    ) => {
      g.strokeStyle = colour;
      g.beginPath();
      let pen = false;
      for (let k = 0; k < n; k++) {
        if (Number.isNaN(values[k])) continue;
        const y = bottom - ((values[k] - low) / Math.max(high - low, 1e-9)) * (bottom - top);
        if (pen) g.lineTo(x(k), y);
        else g.moveTo(x(k), y);
        pen = true;
      }
      g.stroke();
    };
    trace(traces.loads, 0, traces.heaviest, 21, 43, ink);
    trace(traces.feeds, 0, traces.most, 47, 67, accent);
    trace(traces.heights, traces.lowest, traces.highest, 71, 95, faint);
    const word = (text: string, y: number, colour: string) => {
      g.fillStyle = style.getPropertyValue("--paper");
      g.globalAlpha = 0.75;
      g.fillRect(0, y - 10, g.measureText(text).width + 6, 13);
      g.globalAlpha = 1;
      g.fillStyle = colour;
      g.fillText(text, 3, y);
    };
    word(`load, to ${traces.heaviest.toPrecision(2)} kW`, 42, ink);
    word("feed", 66, accent);
    word("height", 94, faint);
    for (const f of facts.findings) {
      if (f.move < 0) continue;
      const at = (f.time_s / total) * width;
      g.fillStyle = style.getPropertyValue(
        f.severity === "stop" ? "--stop" : f.severity === "caution" ? "--caution" : "--accent",
      );
      g.beginPath();
      if (f.severity === "stop") {
        g.moveTo(at, 17);
        g.lineTo(at + 5, 22);
        g.lineTo(at, 27);
        g.lineTo(at - 5, 22);
      } else {
        g.moveTo(at, 17);
        g.lineTo(at + 5, 26);
        g.lineTo(at - 5, 26);
      }
      g.fill();
    }
    const cursor = (time / total) * width;
    g.strokeStyle = style.getPropertyValue("--stop");
    g.lineWidth = 1.5;
    g.beginPath();
    g.moveTo(cursor, 0);
    g.lineTo(cursor, HEIGHT);
    g.stroke();
  }, [facts, traces, time, total]);
  useEffect(draw, [draw]);
  useEffect(() => {
    window.addEventListener("resize", draw);
    return () => window.removeEventListener("resize", draw);
  }, [draw]);

  const seek = (clientX: number) => {
    const box = canvas.current!.getBoundingClientRect();
    const share = Math.min(1, Math.max(0, (clientX - box.left) / box.width));
    set({ time: share * total, shown: "replay", step: null });
  };
  if (!facts)
    return (
      <div className="strip small">The run strip shows the program on one time axis once it is proved.</div>
    );
  const play = (direction: 1 | -1) =>
    set({
      playing: playing === direction ? 0 : direction,
      shown: "replay",
      step: null,
      ...(direction === 1 && time >= total ? { time: 0 } : {}),
    });
  return (
    <footer className="strip" aria-label="Run strip">
      <div className="bar">
        <ActionIcon
          size="sm"
          variant="default"
          aria-label="To the start"
          onClick={() => set({ time: 0, playing: 0, shown: "replay", step: null })}
        >
          <IconPlayerSkipBack size={14} />
        </ActionIcon>
        <ActionIcon
          size="sm"
          variant={playing === -1 ? "filled" : "default"}
          aria-label="Play backward"
          onClick={() => play(-1)}
        >
          <IconPlayerTrackPrev size={14} />
        </ActionIcon>
        <ActionIcon
          size="sm"
          variant={playing === 1 ? "filled" : "default"}
          aria-label={playing ? "Pause" : "Play"}
          onClick={() => (playing ? set({ playing: 0 }) : play(1))}
        >
          {playing ? <IconPlayerPause size={14} /> : <IconPlayerPlay size={14} />}
        </ActionIcon>
        <SegmentedControl
          size="xs"
          aria-label="Speed of replay"
          value={String(speed)}
          onChange={(v) => set({ speed: Number(v) })}
          data={SPEEDS.map((v) => ({ value: v, label: `${v} x` }))}
        />
        <span aria-label="Time">
          {clock(time)} of {clock(total)}
        </span>
        <Where />
        <span className="small" style={{ marginLeft: "auto" }}>
          {[facts.file, offset].filter(Boolean).join(", ")}
        </span>
      </div>
      <canvas
        ref={canvas}
        tabIndex={0}
        role="slider"
        aria-label="Moment of the program"
        aria-valuemin={0}
        aria-valuemax={Math.round(total)}
        aria-valuenow={Math.round(time)}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          set({ playing: 0 });
          seek(e.clientX);
        }}
        onPointerMove={(e) => e.buttons && seek(e.clientX)}
        onKeyDown={(e) => {
          const by = e.shiftKey ? 20 : 1;
          const next = e.key === "ArrowRight" ? time + by : e.key === "ArrowLeft" ? time - by : null;
          if (next !== null)
            set({ time: Math.min(total, Math.max(0, next)), shown: "replay", step: null, playing: 0 });
        }}
      />
    </footer>
  );
}

/** Line of the program and feed at the cursor. */
function Where() {
  const { release, facts } = useChosenProof();
  const motion = useBlob(release?.state === "ready" && facts ? `/proofs/${release.key}/motion` : null);
  const time = useSession((s) => s.time);
  if (!motion.data || !facts) return null;
  const ends = motion.data.arrays.ends_at;
  let low = 0;
  let high = ends.length - 1;
  while (low < high) {
    const mid = (low + high) >> 1;
    if (ends[mid] <= time) low = mid + 1;
    else high = mid;
  }
  const line = motion.data.arrays.line[low];
  const text = facts.text.split("\n")[line - 1] ?? "";
  return (
    <span className="small" style={{ fontFamily: "'IBM Plex Mono', monospace" }}>
      {line}: {text}
    </span>
  );
}

function usePlaying(total: number) {
  const { playing, set } = useSession();
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key !== " " || (e.target as HTMLElement).closest("input, textarea, button")) return;
      e.preventDefault();
      const now = useSession.getState();
      set({ playing: now.playing ? 0 : 1, shown: "replay", step: null });
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [set]);
  useEffect(() => {
    if (!playing || !total) return;
    let last = performance.now();
    let frame = 0;
    const tick = (at: number) => {
      const { time, speed } = useSession.getState();
      const next = time + (playing * speed * (at - last)) / 1000;
      last = at;
      if (next >= total || next <= 0) set({ time: Math.min(total, Math.max(0, next)), playing: 0 });
      else {
        set({ time: next });
        frame = requestAnimationFrame(tick);
      }
    };
    frame = requestAnimationFrame(tick);
    return () => cancelAnimationFrame(frame);
  }, [playing, total, set]);
}
