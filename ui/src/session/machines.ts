import type { JobDocument, Library, Machine, Setup } from "../api/types";

/** The machines that a job can use: its own, then those of the library that have other ids. */
export function machinesOf(document: JobDocument, library: Library): Machine[] {
  const own = document.machines ?? [];
  return [...own, ...library.machines.filter((m) => !own.some((o) => o.id === m.id))];
}

/** Why a spindle speed is none of the machine's, in words. */
export function beyond(rpm: number | null, machine: Machine | undefined): string | undefined {
  if (rpm === null || !machine) return undefined;
  const [low, high] = machine.spindle_rpm;
  if (rpm >= low && rpm <= high) return undefined;
  return `The spindle of ${machine.name} runs from ${low} to ${high} 1/min.`;
}

/** Whether a tool is held by an arm of six joints. */
export function isArm(machine: Machine): boolean {
  const parent = new Map(machine.joints.map((j) => [j.name, j]));
  let count = 0;
  for (let at = machine.tool.joint ?? null; at !== null; at = parent.get(at)?.parent ?? null)
    count += parent.get(at)?.kind === "rotary" ? 1 : 0;
  return count >= 6;
}

/** The letters of the rotary joints that can be held where a side wants them: those of mills. */
export function heldJoints(machine: Machine): string[] {
  const straight = machine.joints.filter((j) => j.kind === "linear" && "XYZ".includes(j.letter));
  if (straight.length < 3 || isArm(machine)) return [];
  return machine.joints.filter((j) => j.kind === "rotary").map((j) => j.letter || j.name);
}

/** The work offset of a setup; null on an arm, whose program says where its object is. */
export function offsetOf(document: JobDocument, library: Library, setup: Setup | undefined): string | null {
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  return !setup || (machine && isArm(machine)) ? null : setup.work_offset;
}
