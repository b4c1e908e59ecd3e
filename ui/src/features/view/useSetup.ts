import { useEffect, useRef } from "react";
import { useBlob } from "../../api/hooks";
import type { SideState, Vec3 } from "../../api/types";
import type { BenchScene } from "../../scene/BenchScene";
import type { SafeBody } from "../../scene/layers/body";
import { useShared } from "../../session/context";
import { useChosen, useSession } from "../../session/store";
import { CORNER } from "./looks";
import { useFixture, useStockShape } from "./shapes";

/** The side that is looked along: the one asked for at the setups, the chosen operation's at the plan. */
function useSide(sides: SideState[] | undefined, inPart: boolean): SideState | undefined {
  const { station, document } = useShared();
  const { sideShown, setup, operation } = useChosen("sideShown", "setup", "operation");
  if (inPart) return undefined;
  const own = operation === null ? null : document.setups[setup]?.operations[operation]?.side;
  const name = station === "plan" ? own : station === "setups" ? sideShown : null;
  return sides?.find((s) => s.name === name);
}

/** The shown setup: where the part lies, its stock, copies and fixture, and a tool that is looked at. */
export function useSetup(scene: BenchScene | null) {
  const { id, state, station, document } = useShared();
  const chosen = useSession((s) => s.setup);
  const release = useSession((s) => s.release);
  // at the proof and the release it is the setup of the program that is looked at
  const posted = station === "prove" || station === "release" ? state?.releases[release]?.setup : undefined;
  const own = state?.setups.findIndex((s) => s.name === posted) ?? -1;
  const index = own >= 0 ? own : chosen;
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
    scene.part.setFrame(frame ?? null);
    const whole = boxed && !shape;
    scene.stock.setBox(whole && low ? low : null, whole && high ? high : null);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, key]);
  const side = useSide(setup?.sides ?? undefined, inPart);
  const sideKey = JSON.stringify(side);
  useEffect(() => {
    const size = low && high ? Math.hypot(...high.map((h, i) => h - low[i])) : 120;
    scene?.path.setAxes(size * 0.16);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, key]);
  const lookedAlong = useRef(false);
  useEffect(() => {
    if (side) scene?.look(side.setup_from_side.slice(0, 3).map((row) => row[2]) as Vec3);
    else if (lookedAlong.current) scene?.look(CORNER);
    lookedAlong.current = !!side;
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, sideKey]);
  useEffect(() => {
    if (scene) scene.look(CORNER);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, JSON.stringify(frame)]);
  const part = state?.part.key;
  const partShown = useBlob(part ? `/jobs/${id}/part/scene/${part}` : null).data;
  useEffect(() => {
    scene?.part.setCopies(frame ?? null, copies);
    scene?.look(CORNER);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, partShown, JSON.stringify([frame, copies])]);
  const skin = useStockShape(boxed ? shape : null);
  useEffect(() => scene?.stock.setSolid(skin ?? null), [scene, skin]);
  const held = useFixture(inPart ? null : setup?.fixture, setup?.name);
  useEffect(() => scene?.stock.setFixture(held ?? null), [scene, held]);
  const body = station === "setups" ? JSON.stringify(setup?.safe_body ?? null) : "null";
  const bodied = useRef(false);
  useEffect(() => {
    const shown = JSON.parse(body) as SafeBody | null;
    scene?.body.set(shown);
    if (!!shown !== bodied.current) scene?.look(CORNER); // all of it, and the work again without it
    bodied.current = !!shown;
  }, [scene, body]);
  const tool = useSession((s) => s.tool);
  useEffect(() => {
    if (!scene || station === "prove" || station === "release") return;
    const chosen = station === "tools" ? document.tools.find((t) => t.number === tool) : undefined;
    scene.tool.set(chosen ?? null);
    if (chosen && high) scene.tool.place([0, 0, high[2] + 5]);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, station, tool, document.tools, key]);
}
