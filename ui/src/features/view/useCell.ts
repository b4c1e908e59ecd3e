import { useEffect, useMemo } from "react";
import type { BenchScene } from "../../scene/BenchScene";
import { poseAt, type Motion } from "../../scene/heightfield";
import { gaugeLength } from "../../scene/layers/tool";
import { frameOf, type Chain } from "../../scene/nodes";
import { useShared } from "../../session/context";
import { machinesOf } from "../../session/machines";
import type { Machine, Vec3 } from "../../api/types";

/** A motion with the values of all joints at the end of every piece, where it has them. */
export type CellMotion = Motion & { joints?: Float32Array };

/** The joints of the chain from work to tool in the order of the arrays of a motion. */
function inChain(machine: Machine): string[] {
  const parent = new Map(machine.joints.map((j) => [j.name, j.parent ?? null]));
  const way = (from: string | null) => {
    const out: string[] = [];
    for (let at = from; at !== null; at = parent.get(at) ?? null) out.push(at);
    return out;
  };
  return [...way(machine.work.joint ?? null), ...way(machine.tool.joint ?? null).reverse()];
}

/** A machine's chain with the work's frame that of the setup, which lies `at` over the table. */
function chainOf(machine: Machine, at: Vec3): Chain {
  const work = frameOf(machine.work as Parameters<typeof frameOf>[0]);
  work.multiply(frameOf({ at }));
  const tool = frameOf(machine.tool as Parameters<typeof frameOf>[0]);
  return {
    joints: machine.joints.map((j) => ({
      name: j.name,
      kind: j.kind,
      axis: j.axis as Vec3,
      point: (j.point ?? [0, 0, 0]) as Vec3,
      parent: j.parent ?? null,
    })),
    work: { joint: machine.work.joint ?? null, frame: work },
    tool: { joint: machine.tool.joint ?? null, frame: tool },
  };
}

/** Values of the joints by name at a time, from those at the end of every piece of a motion. */
export function jointsAt(names: string[], joints: Float32Array, motion: Motion, time: number) {
  const { piece, share } = poseAt(motion, time);
  const k = names.length;
  const [before, after] = [Math.max(0, piece - 1) * k, piece * k];
  const values: Record<string, number> = {};
  names.forEach((name, j) => {
    values[name] = joints[before + j] + (joints[after + j] - joints[before + j]) * share;
  });
  return values;
}

/**
 * The cell of an arm about the work while a proof is replayed: its bodies on their joints, the tool in the
 * spindle, all where the run strip says. `motion` is that of the proof, null while there is none to show.
 * Returns whether it is shown.
 */
export function useCell(
  scene: BenchScene | null,
  setupName: string | undefined,
  motion: CellMotion | null,
  time: number,
): boolean {
  const { document, library, state } = useShared();
  const setup = document.setups.find((s) => s.name === setupName);
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  const at = state?.setups.find((s) => s.name === setupName)?.table_from_setup;
  const shown = !!motion?.joints && !!machine?.bodies?.length && !!at;
  const names = useMemo(() => (machine ? inChain(machine) : []), [machine]);
  const place = JSON.stringify(at);
  useEffect(() => {
    if (!scene || !shown || !machine) return;
    scene.nodes.setChain(chainOf(machine, JSON.parse(place) as Vec3), true);
    scene.machine.set(machine.bodies as Parameters<typeof scene.machine.set>[0]);
    return () => {
      scene.machine.set([]);
      scene.tool.set(null);
      scene.nodes.setChain(null);
      scene.ask();
    };
  }, [scene, shown, machine, place]);
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
