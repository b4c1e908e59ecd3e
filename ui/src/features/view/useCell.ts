import { useEffect, useMemo } from "react";
import type { BenchScene } from "../../scene/BenchScene";
import { atRest, carryingWork, chainOf, inChain, jointsAt, toolAt, type CellMotion } from "../../scene/chain";
import { gaugeLength } from "../../scene/layers/tool";
import { frameOf } from "../../scene/nodes";
import { useShared } from "../../session/context";
import { useChosen, useSession } from "../../session/store";
import type { Vec3 } from "../../api/types";
import { useMachine } from "./useMachine";

/**
 * The machine about the work: its bodies on their joints, at rest while a setup is being set up (`standing`), else
 * with the tool in the spindle where the run strip says. `motion` is that of the proof, null while there is none to show. Beside the machine its
 * base stands still; on the part, the work does and all else goes about it. Returns whether it moves.
 */
export function useCell(
  scene: BenchScene | null,
  setupName: string | undefined,
  motion: CellMotion | null,
  time: number,
  standing = false,
): boolean {
  const { document, state } = useShared();
  const { turning, faded } = useChosen("turning", "faded");
  const { machine, look, hasBodies, bodies, turns } = useMachine(setupName, standing);
  const facts = state?.setups.find((s) => s.name === setupName);
  const [at, stock] = [facts?.table_from_setup, facts?.stock];
  const drawn = hasBodies && look !== "hidden";
  const moves = !!motion?.joints && ((turning && turns) || drawn);
  const shown = (standing ? drawn : moves) && !!machine && !!at && !!stock;
  const names = useMemo(() => (machine ? inChain(machine) : []), [machine]);
  const place = JSON.stringify(at);
  const box = JSON.stringify(stock);
  useEffect(() => {
    if (!scene || !shown) return;
    return () => {
      scene.machine.set([]);
      scene.tool.set(null);
      scene.nodes.setChain(null);
      scene.ask();
    };
  }, [scene, shown]);
  useEffect(() => {
    if (!scene || !shown || !machine) return;
    // without bodies to stand among, the work turns about its middle
    const { min, max } = JSON.parse(box) as { min: Vec3; max: Vec3 };
    const held = bodies.length ? null : (min.map((v, i) => (v + max[i]) / 2) as Vec3);
    scene.nodes.setChain(chainOf(machine, JSON.parse(place) as Vec3), turning, turning ? held : null);
    scene.machine.set(bodies);
  }, [scene, shown, machine, turning, bodies, place, box]);
  useEffect(() => {
    if (!shown || !bodies.length) return;
    const { found, place: looked } = useSession.getState();
    if (found && looked) scene?.goTo(looked);
    else scene?.lookAtMachine();
  }, [scene, shown, bodies]);
  useEffect(() => {
    if (machine) scene?.machine.show(look, carryingWork(machine), new Set(faded));
  }, [scene, machine, look, faded, bodies, shown]);
  const tool = shown && motion ? toolAt(motion, time) : null;
  const held = document.tools.find((t) => t.number === tool);
  useEffect(() => {
    if (!scene || !shown || !machine) return;
    if (standing) {
      scene.nodes.setJoints(atRest(machine));
      scene.ask();
      return;
    }
    if (!motion?.joints) return;
    scene.nodes.setJoints(jointsAt(names, motion.joints, motion, time));
    if (held) scene.tool.hold(frameOf(machine.tool as Parameters<typeof frameOf>[0]), gaugeLength(held));
    scene.ask();
  }, [scene, shown, machine, turning, bodies, names, motion, time, held, standing, place]);
  return shown;
}
