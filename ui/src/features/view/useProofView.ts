import { useEffect, useMemo, useRef, useState } from "react";
import { useBlob, useProof, useStockAt } from "../../api/hooks";
import type { BenchScene } from "../../scene/BenchScene";
import { clearedShape } from "../../scene/cutter";
import { MEETS } from "../../scene/colours";
import { groundOf, HeightField, axisAt, poseAt } from "../../scene/heightfield";
import { useShared } from "../../session/context";
import { useChosen, useSession } from "../../session/store";
import { useStockShape } from "./shapes";
import { motionOf, toolAt } from "../../scene/chain";
import { useCell } from "./useCell";

/** Of a picture's time what cutting the stock in the browser may take, ms. */
const FRAME_MS = 16;
/** And what cutting ahead may take between two pictures, ms. */
const AHEAD_MS = 6;

const TOOL = ["cutter", "shank", "holder"];

/** A value once it has stayed the same for a while; null before. */
function useSettled(value: number | null): number | null {
  const [settled, setSettled] = useState<number | null>(null);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), 120);
    return () => clearTimeout(timer);
  }, [value]);
  return settled === value ? settled : null;
}

/** The proof: what is left of the stock, and the tool at the moment of the run strip. */
export function useProofView(scene: BenchScene | null): { inCell: boolean; met: string } {
  const { state, station, document } = useShared();
  const { shown, time, playing, dragging, step, release, place, placeFace } = useChosen(
    "shown",
    "time",
    "playing",
    "dragging",
    "step",
    "release",
    "place",
    "placeFace",
  );
  const chosen = state?.releases[release];
  const setUp = document.setups[useSession((s) => s.setup)]?.name;
  const key = station === "prove" && chosen?.state === "ready" ? chosen.key : undefined;
  const facts = useProof(key);
  const motion = useBlob(key ? `/proofs/${key}/motion` : null);
  const last = (facts.data?.operations.length ?? 1) - 1;
  const at = shown === "deviation" ? last : (step ?? last);
  const stock = useBlob(key && facts.data && shown !== "replay" ? `/proofs/${key}/stock/${at}` : null);
  const scale = shown === "deviation" ? document.proof.tolerance_mm * 10 : null;
  const moment = useSettled(
    shown === "replay" && key && playing === 0 && !dragging ? Math.round(time * 1000) / 1000 : null,
  );
  const fine = useStockAt(key, moment);
  const isFine = shown === "replay" && moment !== null && Math.abs(moment - time) < 0.002 && !!fine.data;
  const skin = shown === "replay" ? (isFine ? fine.data : null) : stock.data;
  useEffect(() => {
    if (!scene) return;
    scene.stock.setLeft(key && skin ? skin : null, scale);
    scene.field.show(!isFine);
    scene.part.show(!key);
    scene.marks.showFaces(!key);
  }, [scene, key, skin, isFine, scale]);

  const moving = dragging || playing !== 0;
  useEffect(() => scene?.hurry(moving), [scene, moving]);

  const fieldRef = useRef<HeightField | null>(null);
  const setup = state?.setups.find((s) => s.name === facts.data?.setup);
  const shape = useStockShape(key ? setup?.stock?.shape : null, setup?.name);
  useEffect(() => {
    fieldRef.current = null;
    if (!scene) return;
    const waiting = setup?.stock?.shape && !shape;
    const leans = !!motion.data?.arrays.axes; // heights cannot show it: the server's stock does
    if (!key || !motion.data || !setup?.stock || waiting || leans || shown !== "replay")
      return scene.field.set(null);
    const moves = motionOf(motion.data.arrays);
    const shapes = new Map(document.tools.map((t) => [t.number, clearedShape(t)]));
    const { min, max } = setup.stock;
    const cell = Math.max(max[0] - min[0], max[1] - min[1]) / (scene.software ? 120 : 300);
    const start = groundOf(min, max, cell, shape?.arrays);
    const nx = Math.round((max[0] - min[0]) / cell) + 3;
    const ny = Math.round((max[1] - min[1]) / cell) + 3;
    const field = new HeightField(min[0] - cell, min[1] - cell, cell, nx, ny, min[2], start, moves, shapes);
    field.goTo(useSession.getState().time, FRAME_MS);
    fieldRef.current = field;
    scene.field.set(field);
    // between pictures the program is cut ahead, so that every moment is soon there
    let timer = 0;
    const ahead = () => {
      if (fieldRef.current === field && field.cutAhead(AHEAD_MS)) timer = window.setTimeout(ahead, 24);
    };
    timer = window.setTimeout(ahead, 50);
    return () => window.clearTimeout(timer);
  }, [scene, key, motion.data, setup, shape, shown, document.tools]);

  const followed = useRef(0);
  const toolShown = useRef<number | null>(null);
  const moves = useMemo(
    () => (key && shown === "replay" && motion.data ? motionOf(motion.data.arrays) : null),
    [key, shown, motion.data],
  );
  const standing = station === "setups";
  const inCell = useCell(scene, standing ? setUp : facts.data?.setup, moves, time, standing);
  useEffect(() => {
    toolShown.current = null;
  }, [inCell]);
  useEffect(() => {
    if (!scene) return;
    if (!key || !motion.data || shown !== "replay") {
      if (station === "prove") scene.tool.set(null);
      toolShown.current = null;
      return;
    }
    followed.current = time;
    const follow = () => {
      const field = fieldRef.current;
      if (!field || followed.current !== time) return;
      if (field.goTo(time, FRAME_MS)) scene.field.draw();
      if (field.behind) requestAnimationFrame(follow);
    };
    follow();
    if (!moves) return;
    const pose = poseAt(moves, time);
    const tool = inCell ? toolAt(moves, time) : pose.tool;
    if (toolShown.current !== tool) {
      scene.tool.set(document.tools.find((t) => t.number === tool) ?? null);
      toolShown.current = tool;
    }
    if (!inCell)
      scene.tool.place(pose.tip, axisAt(motion.data.arrays.axes as Float32Array | undefined, pose));
  }, [scene, key, motion.data, moves, inCell, time, shown, station, document.tools]);
  useEffect(() => {
    scene?.drawing.setPlace(key ? place : null);
    scene?.marks.setFace(key && place ? placeFace : null);
    if (key && place) scene?.goTo(place);
  }, [scene, key, place, placeFace]);
  const found = useSession((s) => s.found);
  // they meet at that moment only
  const meeting = key && found?.bodies && shown === "replay" && Math.abs(time - found.time_s) < 1e-6;
  const [part, other] = meeting ? found.bodies! : [null, null];
  const color = MEETS[found?.severity ?? "stop"];
  const { toolHidden, machineLook } = useChosen("toolHidden", "machineLook");
  useEffect(() => {
    const met = [part, other].filter((name) => name !== null);
    scene?.tool.paint(met.find((name) => TOOL.includes(name)) ?? null, color);
    scene?.stock.paintFixture(met.includes("fixture") ? color : null);
    const stock = met.includes("stock") ? color : null;
    scene?.stock.paintLeft(stock);
    scene?.field.paint(stock);
    scene?.machine.paint(met.length ? met : null, color);
  }, [scene, part, other, color, inCell, machineLook]);
  useEffect(() => scene?.tool.show(!toolHidden), [scene, toolHidden]);
  return { inCell, met: [part, other].filter((name) => name !== null).join(",") };
}
