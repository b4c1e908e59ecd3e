import type { JobDocument, Machine, MachineBodyDoc, MachineJoint } from "../../../api/types";
import { freeName } from "../../../session/fresh";

/** An id for a machine by its name, which no other of the job has. */
export function freeId(name: string, known: string[]): string {
  const plain =
    name
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, "_")
      .replace(/^_+|_+$/g, "") || "machine";
  let n = 1;
  while (known.includes(n > 1 ? `${plain}_${n}` : plain)) n++;
  return n > 1 ? `${plain}_${n}` : plain;
}

/** Puts a machine into the job under ids and names of its own; gives its id. One that is there as it is stays. */
export function takeIn(document: JobDocument, machine: Machine, library: readonly Machine[]): string {
  const own = (document.machines ??= []);
  const same = own.find((m) => JSON.stringify(m) === JSON.stringify(machine));
  if (same) return same.id;
  const all = [...own, ...library];
  const name = freeName(
    machine.name,
    all.map((m) => m.name),
  );
  const id = freeId(
    name,
    all.map((m) => m.id),
  );
  own.push({ ...structuredClone(machine), id, name });
  return id;
}

/** A joint of a new kind to begin with. */
export function freshJoint(machine: Machine): MachineJoint {
  return {
    name: freeName(
      "J",
      machine.joints.map((j) => j.name),
    ),
    letter: "",
    kind: "linear",
    axis: [1, 0, 0],
    point: [0, 0, 0],
    parent: null,
    low: -100,
    high: 100,
    speed: 10000,
    acceleration: 3,
    clamps: false,
  };
}

/** Gives a joint another name, with all that sits on it. */
export function renameJoint(machine: Machine, old: string, name: string) {
  for (const joint of machine.joints) {
    if (joint.parent === old) joint.parent = name;
    if (joint.name === old) joint.name = name;
  }
  for (const mount of [machine.work, machine.tool, machine.flange])
    if (mount?.joint === old) mount.joint = name;
  for (const body of machine.bodies ?? []) if (body.joint === old) body.joint = name;
  for (const values of [machine.home, machine.tool_change_at]) {
    if (!values || !(old in values)) continue;
    values[name] = values[old];
    delete values[old];
  }
}

/** A body to begin with. */
export function freshBody(kind: string): MachineBodyDoc {
  if (kind === "round")
    return {
      kind: "round",
      joint: null,
      role: "head",
      begin: [0, 0, 0],
      end: [0, 0, 100],
      radius: 50,
      radius_end: null,
    };
  return { kind: "box", joint: null, role: "bed", low: [-100, -100, -100], high: [100, 100, 0] };
}

/** Corners of an outline as they are typed: "0, 0; 50, 0; 50, 20". */
export function outlineText(outline: readonly (readonly [number, number])[]): string {
  return outline.map(([a, b]) => `${a}, ${b}`).join("; ");
}

/** The corners in a text, null where it has others than pairs of numbers. */
export function outlineOf(text: string): [number, number][] | null {
  const corners = text
    .split(";")
    .map((pair) => pair.trim())
    .filter((pair) => pair !== "")
    .map((pair) => pair.split(/[\s,]+/).map(Number));
  const good = corners.length >= 3 && corners.every((c) => c.length === 2 && c.every(Number.isFinite));
  return good ? (corners as [number, number][]) : null;
}
