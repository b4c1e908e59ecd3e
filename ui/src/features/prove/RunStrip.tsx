import { ActionIcon, SegmentedControl, useComputedColorScheme } from "@mantine/core";
import {
  IconPlayerPause,
  IconPlayerPlay,
  IconPlayerSkipBack,
  IconPlayerTrackPrev,
} from "@tabler/icons-react";
import { useEffect, useMemo, useRef, useState } from "react";
import { useBlob } from "../../api/hooks";
import { inChain, jointsAt, motionOf, rotaryIn, turned } from "../../scene/chain";
import { poseAt } from "../../scene/heightfield";
import { clock, useShared } from "../../session/context";
import { isArm, machinesOf, offsetOf } from "../../session/machines";
import { useChosen, useSession } from "../../session/store";
import { Film } from "./Film";
import { Running } from "./Running";
import { momentsOf, stopBetween } from "./stops";
import { drawStrip, HEIGHT, indexMoves, jointTraces, tracesOf, apartTrace } from "./strip";
import { useChosenProof } from "../../session/proof";

/** What takes the space bar for itself; a choice among several has the arrow keys. */
const TYPED = "textarea, button, input:not([type=radio])";
const SPEEDS = ["1", "5", "20", "100"];

/** The program on one time axis: a band per operation, traces of feed and height, findings. */
export function RunStrip() {
  const { document, library } = useShared();
  const { release, facts } = useChosenProof();
  const setup = document.setups.find((s) => s.name === facts?.setup);
  const offset = offsetOf(document, library, setup);
  const motion = useBlob(release?.state === "ready" && facts ? `/proofs/${release.key}/motion` : null);
  const { time, playing, speed, set } = useChosen("time", "playing", "speed", "set");
  const canvas = useRef<HTMLCanvasElement>(null);
  const total = facts?.time_s ?? 0;
  const stopsAt = useSession((s) => s.stopsAt);
  const moments = useMemo(
    () => (facts ? momentsOf(facts, motion.data, stopsAt) : []),
    [facts, motion.data, stopsAt],
  );
  usePlaying(total, moments);

  const traces = useMemo(
    () => (motion.data && facts ? tracesOf(motion.data, total) : null),
    [motion.data, facts, total],
  );
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  const turns = useMemo(
    () => (motion.data && machine && !isArm(machine) ? indexMoves(motion.data, rotaryIn(machine)) : []),
    [motion.data, machine],
  );
  const traced = useSession((s) => s.traced);
  const joints = useMemo(
    () =>
      motion.data && machine
        ? [...jointTraces(motion.data, machine, total), ...apartTrace(motion.data, total)]
        : [],
    [motion.data, machine, total],
  );
  const [width, setWidth] = useState(0);
  const scheme = useComputedColorScheme("light");
  // all but the moment is drawn once, and copied under it
  const still = useMemo(() => {
    if (!facts || !traces || !width) return null;
    const ratio = window.devicePixelRatio || 1;
    const picture = window.document.createElement("canvas");
    picture.width = width * ratio;
    picture.height = HEIGHT * ratio;
    const g = picture.getContext("2d")!;
    g.scale(ratio, ratio);
    void scheme; // its colours are those of the page
    drawStrip(g, width, facts, traces, turns, traced === "joints" ? joints : undefined);
    return picture;
  }, [facts, traces, turns, traced, joints, width, scheme]);
  useEffect(() => {
    const c = canvas.current;
    if (!c || !still) return;
    if (c.width !== still.width) c.width = still.width;
    if (c.height !== still.height) c.height = still.height;
    const g = c.getContext("2d")!;
    g.clearRect(0, 0, c.width, c.height);
    g.drawImage(still, 0, 0);
    const at = (time / total) * c.width;
    g.strokeStyle = getComputedStyle(window.document.documentElement).getPropertyValue("--stop");
    g.lineWidth = 1.5 * (window.devicePixelRatio || 1);
    g.beginPath();
    g.moveTo(at, 0);
    g.lineTo(at, c.height);
    g.stroke();
  }, [still, time, total]);
  const shown = !!facts;
  useEffect(() => {
    if (!canvas.current) return;
    const watch = new ResizeObserver(([entry]) => setWidth(Math.round(entry.contentRect.width)));
    watch.observe(canvas.current);
    return () => watch.disconnect();
  }, [shown]);

  // a picture at a time: the hand moves faster than pictures are drawn
  const hand = useRef<number | null>(null);
  const seek = (clientX: number) => {
    const waiting = hand.current !== null;
    hand.current = clientX;
    if (waiting) return;
    requestAnimationFrame(() => {
      const box = canvas.current?.getBoundingClientRect();
      const x = hand.current;
      hand.current = null;
      if (!box || x === null) return;
      const share = Math.min(1, Math.max(0, (x - box.left) / box.width));
      set({ time: share * total, shown: "replay", step: null });
    });
  };
  if (!facts)
    return (
      <div className="strip small">The run strip shows the program on one time axis once it is proved.</div>
    );
  const play = (direction: 1 | -1) =>
    set({
      playing: playing === direction ? 0 : direction,
      until: null,
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
        <span aria-label="Time" className="time">
          {clock(time)} of {clock(total)}
        </span>
        <Where />
        {turns.length > 0 && (
          <span className="small time">
            {turns.length} {turns.length === 1 ? "index move" : "index moves"}
          </span>
        )}
        <Running facts={facts} />
        {joints.length > 0 && (
          <SegmentedControl
            size="xs"
            aria-label="Traces"
            value={traced}
            onChange={(v) => set({ traced: v as "load" | "joints" })}
            data={[
              { value: "load", label: "Load" },
              { value: "joints", label: "Joints" },
            ]}
          />
        )}
        <Film name={facts.file.replace(/\.[^.]*$/, "")} />
        <span className="small">{[facts.file, offset].filter(Boolean).join(", ")}</span>
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
          set({ playing: 0, dragging: true });
          seek(e.clientX);
        }}
        onPointerUp={() => set({ dragging: false })}
        onLostPointerCapture={() => set({ dragging: false })}
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
  const { document, library } = useShared();
  const { release, facts } = useChosenProof();
  const motion = useBlob(release?.state === "ready" && facts ? `/proofs/${release.key}/motion` : null);
  const time = useSession((s) => s.time);
  const setup = document.setups.find((s) => s.name === facts?.setup);
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  const names = useMemo(() => (machine ? inChain(machine) : []), [machine]);
  const lines = useMemo(() => facts?.text.split("\n") ?? [], [facts]);
  if (!motion.data || !facts) return null;
  const moves = motionOf(motion.data.arrays);
  const line = motion.data.arrays.line[poseAt(moves, time).piece];
  const text = lines[line - 1] ?? "";
  const stand = moves.joints && machine ? turned(machine, jointsAt(names, moves.joints, moves, time)) : "";
  return (
    <span className="small where">
      {stand && <span aria-label="Rotary joints">{stand} </span>}
      {line}: {text}
    </span>
  );
}

function usePlaying(total: number, moments: readonly number[]) {
  const { playing, set } = useChosen("playing", "set");
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key !== " " || (e.target as HTMLElement).closest(TYPED)) return;
      e.preventDefault();
      const now = useSession.getState();
      set({ playing: now.playing ? 0 : 1, until: null, shown: "replay", step: null });
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [set]);
  useEffect(() => {
    if (!playing || !total) return;
    let last = performance.now();
    let frame = 0;
    const tick = (at: number) => {
      const { time, speed, until } = useSession.getState();
      const next = time + (playing * speed * Math.max(0, at - last)) / 1000;
      last = at;
      const stop = stopBetween(
        until === null ? moments : [...moments, until].sort((a, b) => a - b),
        time,
        next,
      );
      if (stop !== null) set({ time: stop, playing: 0, until: stop === until ? null : until });
      else if (playing > 0 ? next >= total : next <= 0)
        set({ time: Math.min(total, Math.max(0, next)), playing: 0 });
      else {
        set({ time: next });
        frame = requestAnimationFrame(tick);
      }
    };
    frame = requestAnimationFrame(tick);
    return () => cancelAnimationFrame(frame);
  }, [playing, total, moments, set]);
}
