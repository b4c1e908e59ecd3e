import { useEffect, useState } from "react";
import type { BenchScene } from "../../scene/BenchScene";
import type { FaceFacts } from "../../api/types";
import { measuredBy, type Axis, type Gap } from "../../scene/measuring";
import { useShared } from "../../session/context";
import { useChosen, useSession } from "../../session/store";

/** The axis of a face of the part that is a cylinder, in the part's frame. */
const axisOf = ({ kind, origin, axis, radius }: FaceFacts): Axis | null =>
  kind === "cylinder" && origin && axis && radius ? { at: origin, along: axis, radius } : null;

/** Clicks on bodies while something is measured; gives what lies between the two, alive while the machine moves. */
export function useMeasuring(scene: BenchScene | null): Gap | null {
  const { station, faces } = useShared();
  const { measuring: picks, byAxes, throughStock } = useChosen("measuring", "byAxes", "throughStock");
  const [gap, setGap] = useState<Gap | null>(null);
  const measuring = picks !== null;
  useEffect(() => {
    if (!scene) return;
    scene.ruler.changed = setGap;
    return () => void (scene.ruler.changed = null);
  }, [scene]);
  useEffect(() => {
    scene?.ruler.set((picks ?? []).map((p) => measuredBy(p, byAxes)));
    scene?.ask();
  }, [scene, picks, byAxes]);
  useEffect(() => {
    // what was measured at another station may not be drawn here
    useSession.getState().set({ measuring: null });
  }, [station]);
  useEffect(() => {
    if (!scene || !measuring) return;
    const canvas = scene.canvas;
    let down: [number, number] | null = null;
    const press = (e: PointerEvent) => void (down = [e.clientX, e.clientY]);
    const release = (e: PointerEvent) => {
      if (!down || Math.hypot(e.clientX - down[0], e.clientY - down[1]) > 4 || e.button !== 0) return;
      const box = canvas.getBoundingClientRect();
      const x = ((e.clientX - box.left) / box.width) * 2 - 1;
      const y = 1 - ((e.clientY - box.top) / box.height) * 2;
      const hit = scene.pickBody(x, y, faces.map(axisOf), throughStock);
      const { measuring: known, set } = useSession.getState();
      if (hit && known) set({ measuring: known.length === 2 ? [hit] : [...known, hit] });
    };
    canvas.addEventListener("pointerdown", press);
    canvas.addEventListener("pointerup", release);
    return () => {
      canvas.removeEventListener("pointerdown", press);
      canvas.removeEventListener("pointerup", release);
    };
  }, [scene, measuring, faces, throughStock]);
  return gap;
}
