import { useMemo } from "react";
import { useBlob } from "../../api/hooks";
import type { Machine } from "../../api/types";
import { bodiesOf, type MachineBody, type MachineLook } from "../../scene/layers/machine";
import { useShared } from "../../session/context";
import { isArm, machinesOf } from "../../session/machines";
import { useChosen } from "../../session/store";

/** A setup's machine as it is drawn. */
export interface ShownMachine {
  machine: Machine | undefined;
  /** How it is drawn: an arm is seen, any other machine hidden, until something else is chosen. */
  look: MachineLook;
  /** Whether it has bodies at all, and those that are drawn. */
  hasBodies: boolean;
  bodies: MachineBody[];
  /** Whether one of its joints turns. */
  turns: boolean;
}

/** `standing` while a setup is being set up: then it is hidden until something else is chosen there. */
export function useMachine(setupName: string | undefined, standing = false): ShownMachine {
  const { document, library, state, id } = useShared();
  const { machineLook, standLook } = useChosen("machineLook", "standLook");
  const chosen = standing ? standLook : machineLook;
  const index = state?.setups.findIndex((s) => s.name === setupName) ?? -1;
  const setup = document.setups.find((s) => s.name === setupName);
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  const shape = state?.setups[index]?.machine;
  const look = chosen ?? (machine && isArm(machine) ? "seen" : "hidden");
  const drawn = look !== "hidden" && !!shape;
  const blob = useBlob(drawn ? `/jobs/${id}/setups/${index}/machine/${shape}` : null).data;
  const bodies = useMemo(() => bodiesOf(drawn ? blob : undefined), [drawn, blob]);
  const turns = !!machine?.joints.some((j) => j.kind === "rotary");
  return { machine, look, hasBodies: !!shape, bodies, turns };
}
