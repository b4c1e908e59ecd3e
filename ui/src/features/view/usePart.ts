import { useEffect } from "react";
import { useBlob } from "../../api/hooks";
import type { BenchScene } from "../../scene/BenchScene";
import { useShared } from "../../session/context";
import { useSession } from "../../session/store";
import { CORNER } from "./looks";

/** The part, what is picked on it and what the pointer is over. Returns the key of the part that is drawn. */
export function usePart(scene: BenchScene | null): string {
  const { id, state } = useShared();
  const key = state?.part.state === "ready" ? state.part.key : undefined;
  const blob = useBlob(key ? `/jobs/${id}/part/scene/${key}` : null);
  useEffect(() => {
    if (!scene) return;
    scene.part.set(blob.data ?? null);
    if (blob.data) scene.look(CORNER);
  }, [scene, blob.data]);
  const hover = useSession((s) => s.hover);
  const picks = useSession((s) => s.picks);
  useEffect(() => scene?.marks.setHovered(hover), [scene, hover]);
  useEffect(() => {
    scene?.marks.setPicked(
      picks.map((p) => p.face),
      picks.flatMap((p) => (p.edge ? [p.edge] : [])),
      picks.map((p) => p.point),
    );
  }, [scene, picks, blob.data]);
  return (scene && blob.data && key) || "";
}
