import { useEffect, useMemo } from "react";
import type { BenchScene } from "../../scene/BenchScene";
import { chainOf, inChain, jointsAt, type CellMotion } from "../../scene/chain";
import { poseAt } from "../../scene/heightfield";
import { gaugeLength } from "../../scene/layers/tool";
import { frameOf } from "../../scene/nodes";
import { useShared } from "../../session/context";
import { isArm, machinesOf } from "../../session/machines";
import { useChosen } from "../../session/store";
import type { Vec3 } from "../../api/types";

/**
 * The machine about the work while a proof is replayed: its bodies on their joints, the tool in the spindle, all
 * where the run strip says. `motion` is that of the proof, null while there is none to show. What has no bodies to
 * show stands still where that is wanted. Returns whether it moves.
 */
export function useCell(
  scene: BenchScene | null,
  setupName: string | undefined,
  motion: CellMotion | null,
  time: number,
): boolean {
  const { document, library, state } = useShared();
  const { turning } = useChosen("turning");
  const setup = document.setups.find((s) => s.name === setupName);
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  const facts = state?.setups.find((s) => s.name === setupName);
  const [at, stock] = [facts?.table_from_setup, facts?.stock];
  const shown = !!motion?.joints && !!machine && !!at && !!stock && (turning || isArm(machine));
  const names = useMemo(() => (machine ? inChain(machine) : []), [machine]);
  const place = JSON.stringify(at);
  const box = JSON.stringify(stock);
  useEffect(() => {
    if (!scene || !shown || !machine) return;
    // without bodies to stand among, the work turns about its middle
    const { min, max } = JSON.parse(box) as { min: Vec3; max: Vec3 };
    const held = machine.bodies?.length ? null : (min.map((v, i) => (v + max[i]) / 2) as Vec3);
    scene.nodes.setChain(chainOf(machine, JSON.parse(place) as Vec3), true, held);
    scene.machine.set((machine.bodies ?? []) as Parameters<typeof scene.machine.set>[0]);
    return () => {
      scene.machine.set([]);
      scene.tool.set(null);
      scene.nodes.setChain(null);
      scene.ask();
    };
  }, [scene, shown, machine, place, box]);
  const tool = shown ? poseAt(motion, time).tool : null;
  const held = document.tools.find((t) => t.number === tool);
  useEffect(() => {
    if (!scene || !shown || !machine || !motion?.joints) return;
    scene.nodes.setJoints(jointsAt(names, motion.joints, motion, time));
    if (held) scene.tool.hold(frameOf(machine.tool as Parameters<typeof frameOf>[0]), gaugeLength(held));
    scene.ask();
  }, [scene, shown, machine, names, motion, time, held]);
  return shown;
}
