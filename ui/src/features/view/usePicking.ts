import { useEffect } from "react";
import type { BenchScene } from "../../scene/BenchScene";
import { useShared } from "../../session/context";
import { useChosen, useSession } from "../../session/store";

/** The area that is being drawn, over the stock's top; drawing begins with a look from above. */
export function useDrawing(scene: BenchScene | null) {
  const { state } = useShared();
  const { drawing, setup } = useChosen("drawing", "setup");
  const top = state?.setups[setup]?.stock?.max[2] ?? 0;
  const open = drawing !== null;
  useEffect(() => {
    if (open) scene?.look([0, 0, 1]);
  }, [scene, open]);
  useEffect(() => scene?.drawing.setArea(drawing ?? [], top), [scene, drawing, top]);
}

/** Clicks and moves of the pointer over the part. */
export function usePicking(scene: BenchScene | null, holder: React.RefObject<HTMLElement | null>) {
  const { station } = useShared();
  const measuring = useSession((s) => s.measuring !== null);
  useEffect(() => {
    const element = holder.current;
    if (!scene || !element || measuring || station === "prove" || station === "release") return;
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
  }, [scene, holder, station, measuring]);
}
