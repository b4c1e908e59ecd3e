import { useEffect } from "react";
import { useBlob } from "../../api/hooks";
import type { BenchScene } from "../../scene/BenchScene";
import { useShared } from "../../session/context";
import { useSession } from "../../session/store";

/** The chosen operation's path, in its side. */
export function usePath(scene: BenchScene | null) {
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
    scene?.path.setSide(frame);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, placed]);
  useEffect(() => scene?.path.set(key && blob.data ? blob.data : null), [scene, key, blob.data]);
}
