import { SegmentedControl, useMantineColorScheme } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { useBlob, useProof, useStockAt } from "../../api/hooks";
import type { Vec3 } from "../../api/types";
import { BenchScene } from "../../scene/BenchScene";
import { clearedShape } from "../../scene/cutter";
import { groundOf, HeightField, axisAt, poseAt, type Motion } from "../../scene/heightfield";
import { DeviationLegend, PathLegend } from "./Legends";
import { Offer } from "./Offer";
import { useShared } from "../../session/context";
import { useSession } from "../../session/store";

const LOOKS: [string, Vec3][] = [
  ["Corner", [1, -1.35, 0.95]],
  ["Above", [0, 0, 1]],
  ["Front", [0, -1, 0.02]],
  ["Right", [1, 0, 0.02]],
];

/** The view in the middle: the same camera at every station. */
export function View() {
  const { station, state, document } = useShared();
  const bench = useSession();
  const canvas = useRef<HTMLCanvasElement>(null);
  const holder = useRef<HTMLElement>(null);
  const [scene, setScene] = useState<BenchScene | null>(null);
  const { colorScheme } = useMantineColorScheme();

  useEffect(() => {
    if (!canvas.current || !holder.current) return;
    const made = new BenchScene(canvas.current);
    const watch = new ResizeObserver(([entry]) =>
      made.resize(entry.contentRect.width, entry.contentRect.height),
    );
    watch.observe(holder.current);
    setScene(made);
    return () => {
      watch.disconnect();
      made.dispose();
      setScene(null);
    };
  }, []);
  useEffect(() => scene?.setDark(colorScheme === "dark"), [scene, colorScheme]);

  usePart(scene);
  useSetup(scene);
  usePath(scene);
  useProofView(scene);
  useDrawing(scene);
  usePicking(scene, holder);

  const empty = state?.part.state !== "ready";
  const scale = document.proof.tolerance_mm * 10;
  return (
    <main className="view" ref={holder} aria-label="View">
      <canvas
        ref={canvas}
        tabIndex={0}
        aria-label="Model view"
        data-part={state?.part.key ?? ""}
        data-picks={bench.picks.map((p) => p.face).join(",")}
      />
      <div className="looks" role="group" aria-label="Look from">
        {LOOKS.map(([name, direction]) => (
          <button key={name} onClick={() => scene?.look(direction)}>
            {name}
          </button>
        ))}
      </div>
      {station === "prove" && (
        <SegmentedControl
          className="showing"
          size="xs"
          aria-label="Shown"
          value={bench.shown}
          onChange={(v) => bench.set({ shown: v as typeof bench.shown })}
          data={[
            { value: "replay", label: "Replay" },
            { value: "stock", label: "In-process stock" },
            { value: "deviation", label: "Deviation" },
          ]}
        />
      )}
      {station === "prove" && bench.shown === "deviation" && <DeviationLegend end={scale} />}
      {station === "plan" && bench.operation !== null && <PathLegend />}
      {!empty && <Offer />}
    </main>
  );
}

function usePart(scene: BenchScene | null) {
  const { id, state } = useShared();
  const key = state?.part.state === "ready" ? state.part.key : undefined;
  const blob = useBlob(key ? `/jobs/${id}/part/scene/${key}` : null);
  useEffect(() => {
    if (!scene) return;
    if (!blob.data) return scene.remove("part");
    scene.setPart(blob.data);
    scene.look(LOOKS[0][1]);
  }, [scene, blob.data]);
  const hover = useSession((s) => s.hover);
  const picks = useSession((s) => s.picks);
  useEffect(() => scene?.mark("hover", hover ? [hover] : []), [scene, hover]);
  useEffect(() => {
    scene?.mark(
      "picked",
      picks.map((p) => p.face),
    );
    scene?.setMarks(picks.map((p) => p.point));
    scene?.markEdges(picks.flatMap((p) => (p.edge ? [p.edge] : [])));
  }, [scene, picks, blob.data]);
}

function useSetup(scene: BenchScene | null) {
  const { id, state, station, document } = useShared();
  const index = useSession((s) => s.setup);
  const setup = state?.setups[Math.min(index, (state?.setups.length ?? 1) - 1)];
  const inPart = station === "part" || !setup?.setup_from_part;
  const frame = inPart ? null : setup?.setup_from_part;
  const low = !inPart ? setup?.stock?.min : undefined;
  const high = !inPart ? setup?.stock?.max : undefined;
  const copies = !inPart ? (setup?.copies ?? []) : [];
  const shape = !inPart ? setup?.stock?.shape : null;
  const boxed = station === "setups" || station === "tools" || station === "plan";
  const key = JSON.stringify([frame, low, high, station, shape]);
  useEffect(() => {
    if (!scene) return;
    scene.setPartFrame(frame ?? null);
    const whole = boxed && !shape;
    scene.setStockBox(whole && low ? low : null, whole && high ? high : null);
    const size = low && high ? Math.hypot(...high.map((h, i) => h - low[i])) : 120;
    scene.setAxes(size * 0.16);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, key]);
  useEffect(() => {
    if (scene) scene.look(LOOKS[0][1]);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, JSON.stringify(frame)]);
  const part = state?.part.key;
  const partShown = useBlob(part ? `/jobs/${id}/part/scene/${part}` : null).data;
  useEffect(() => {
    scene?.setCopies(frame ?? null, copies);
    scene?.look(LOOKS[0][1]);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, partShown, JSON.stringify([frame, copies])]);
  const skin = useStockShape(boxed ? shape : null);
  useEffect(() => scene?.setStockShape(skin ?? null), [scene, skin]);
  const held = useFixture(inPart ? null : setup?.fixture, setup?.name);
  useEffect(() => scene?.setFixture(held ?? null), [scene, held]);
  const tool = useSession((s) => s.tool);
  useEffect(() => {
    if (!scene || station === "prove" || station === "release") return;
    const chosen = station === "tools" ? document.tools.find((t) => t.number === tool) : undefined;
    scene.setTool(chosen ?? null);
    if (chosen && high) scene.placeTool([0, 0, high[2] + 5]);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, station, tool, document.tools, key]);
}

/** The triangles of the chosen setup's stock where it is no box. */
function useStockShape(shape: string | null | undefined, name?: string) {
  const { id, state } = useShared();
  const chosen = useSession((s) => s.setup);
  const index = name === undefined ? chosen : (state?.setups.findIndex((s) => s.name === name) ?? -1);
  return useBlob(shape && index >= 0 ? `/jobs/${id}/setups/${index}/stock/${shape}` : null).data;
}

/** The triangles of a setup's fixture. */
function useFixture(shape: string | null | undefined, name?: string) {
  const { id, state } = useShared();
  const index = state?.setups.findIndex((s) => s.name === name) ?? -1;
  return useBlob(shape && index >= 0 ? `/jobs/${id}/setups/${index}/fixture/${shape}` : null).data;
}

function usePath(scene: BenchScene | null) {
  const { state, station, document } = useShared();
  const { setup, operation } = useSession();
  const doc = document.setups[setup];
  const chosen = operation !== null ? state?.setups[setup]?.operations[operation] : undefined;
  const key = station === "plan" && chosen?.state === "ready" ? chosen.key : null;
  const blob = useBlob(key ? `/paths/${key}` : null);
  const side = station === "plan" && operation !== null ? doc?.operations[operation]?.side : null;
  const frame = state?.setups[setup]?.sides?.find((s) => s.name === side)?.setup_from_side ?? null;
  const placed = JSON.stringify(frame);
  useEffect(() => {
    scene?.setSideFrame(frame);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, placed]);
  useEffect(() => scene?.setPath(key && blob.data ? blob.data : null), [scene, key, blob.data]);
}

/** A value once it has stayed the same for a while; null before. */
function useSettled(value: number | null): number | null {
  const [settled, setSettled] = useState<number | null>(null);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), 120);
    return () => clearTimeout(timer);
  }, [value]);
  return settled === value ? settled : null;
}

function useProofView(scene: BenchScene | null) {
  const { state, station, document } = useShared();
  const { shown, time, playing, step, release, place } = useSession();
  const chosen = state?.releases[release];
  const key = station === "prove" && chosen?.state === "ready" ? chosen.key : undefined;
  const facts = useProof(key);
  const motion = useBlob(key ? `/proofs/${key}/motion` : null);
  const last = (facts.data?.operations.length ?? 1) - 1;
  const at = shown === "deviation" ? last : (step ?? last);
  const stock = useBlob(key && facts.data && shown !== "replay" ? `/proofs/${key}/stock/${at}` : null);
  const scale = shown === "deviation" ? document.proof.tolerance_mm * 10 : null;
  const moment = useSettled(
    shown === "replay" && key && playing === 0 ? Math.round(time * 1000) / 1000 : null,
  );
  const fine = useStockAt(key, moment);
  const isFine = shown === "replay" && moment !== null && Math.abs(moment - time) < 0.002 && !!fine.data;
  const skin = shown === "replay" ? (isFine ? fine.data : null) : stock.data;
  useEffect(() => {
    if (!scene) return;
    scene.setStock(key && skin ? skin : null, scale);
    scene.show("field", !isFine);
    scene.show("part", !key);
    scene.show("copies", !key);
    scene.show("hover", !key);
    scene.show("picked", !key);
  }, [scene, key, skin, isFine, scale]);

  const fieldRef = useRef<HeightField | null>(null);
  const setup = state?.setups.find((s) => s.name === facts.data?.setup);
  const shape = useStockShape(key ? setup?.stock?.shape : null, setup?.name);
  useEffect(() => {
    fieldRef.current = null;
    if (!scene) return;
    const waiting = setup?.stock?.shape && !shape;
    const leans = !!motion.data?.arrays.axes; // heights cannot show it: the server's stock does
    if (!key || !motion.data || !setup?.stock || waiting || leans || shown !== "replay")
      return scene.remove("field");
    const moves: Motion = {
      pieces: motion.data.arrays.pieces as Float32Array,
      endsAt: motion.data.arrays.ends_at as Float32Array,
      tool: motion.data.arrays.tool as Int32Array,
    };
    const shapes = new Map(document.tools.map((t) => [t.number, clearedShape(t)]));
    const { min, max } = setup.stock;
    const cell = Math.max(max[0] - min[0], max[1] - min[1]) / 300;
    const start = groundOf(min, max, cell, shape?.arrays);
    const nx = Math.round((max[0] - min[0]) / cell) + 3;
    const ny = Math.round((max[1] - min[1]) / cell) + 3;
    const field = new HeightField(min[0] - cell, min[1] - cell, cell, nx, ny, min[2], start, moves, shapes);
    field.goTo(useSession.getState().time);
    fieldRef.current = field;
    scene.setField(field);
  }, [scene, key, motion.data, setup, shape, shown, document.tools]);

  const toolShown = useRef<number | null>(null);
  useEffect(() => {
    if (!scene) return;
    if (!key || !motion.data || shown !== "replay") {
      if (station === "prove") scene.setTool(null);
      toolShown.current = null;
      return;
    }
    if (fieldRef.current?.goTo(time)) scene.drawField();
    const moves = {
      pieces: motion.data.arrays.pieces as Float32Array,
      endsAt: motion.data.arrays.ends_at as Float32Array,
      tool: motion.data.arrays.tool as Int32Array,
    };
    const pose = poseAt(moves, time);
    if (toolShown.current !== pose.tool) {
      scene.setTool(document.tools.find((t) => t.number === pose.tool) ?? null);
      toolShown.current = pose.tool;
    }
    scene.placeTool(pose.tip, axisAt(motion.data.arrays.axes as Float32Array | undefined, pose));
  }, [scene, key, motion.data, time, shown, station, document.tools]);
  useEffect(() => scene?.setPlace(key ? place : null), [scene, key, place]);
}

/** The area that is being drawn, over the stock's top; drawing begins with a look from above. */
function useDrawing(scene: BenchScene | null) {
  const { state } = useShared();
  const { drawing, setup } = useSession();
  const top = state?.setups[setup]?.stock?.max[2] ?? 0;
  const open = drawing !== null;
  useEffect(() => {
    if (open) scene?.look([0, 0, 1]);
  }, [scene, open]);
  useEffect(() => scene?.setDrawing(drawing ?? [], top), [scene, drawing, top]);
}

function usePicking(scene: BenchScene | null, holder: React.RefObject<HTMLElement | null>) {
  const { station } = useShared();
  useEffect(() => {
    const element = holder.current;
    if (!scene || !element || station === "prove" || station === "release") return;
    const canvas = scene.canvas;
    let down: [number, number] | null = null;
    const place = (e: PointerEvent): [number, number] => {
      const box = canvas.getBoundingClientRect();
      return [((e.clientX - box.left) / box.width) * 2 - 1, 1 - ((e.clientY - box.top) / box.height) * 2];
    };
    const move = (e: PointerEvent) => {
      if (e.buttons) return;
      const hit = useSession.getState().drawing ? null : scene.pick(...place(e));
      const face = hit?.face ?? null;
      if (useSession.getState().hover !== face) useSession.getState().set({ hover: face });
    };
    const press = (e: PointerEvent) => {
      down = [e.clientX, e.clientY];
    };
    const release = (e: PointerEvent) => {
      if (!down || Math.hypot(e.clientX - down[0], e.clientY - down[1]) > 4 || e.button !== 0) return;
      const { picks, wanted, drawing, set } = useSession.getState();
      if (drawing) {
        const corner = scene.cornerAt(...place(e));
        if (corner) set({ drawing: [...drawing, corner] });
        return;
      }
      const hit = scene.pick(...place(e));
      if (hit && wanted) {
        set({ wanted: null, wantedWords: "", picks: [] });
        wanted(hit.face);
        return;
      }
      if (!hit) return set({ picks: [] });
      set({ picks: e.shiftKey || (station === "part" && picks.length === 1) ? [...picks, hit] : [hit] });
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerdown", press);
    canvas.addEventListener("pointerup", release);
    return () => {
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerdown", press);
      canvas.removeEventListener("pointerup", release);
    };
  }, [scene, holder, station]);
}
