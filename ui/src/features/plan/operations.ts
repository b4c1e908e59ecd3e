import type { JobDocument, Operation, Repeat, Setup, Tool } from "../../api/types";

/** What is done with operations of a document, by their names; each is one step of undo. */

function free(name: string, taken: Set<string>): string {
  if (!taken.has(name)) return name;
  const plain = name.replace(/ \d+$/, "");
  let n = 2;
  while (taken.has(`${plain} ${n}`)) n++;
  return `${plain} ${n}`;
}

function withoutGeometry(operation: Operation): Operation {
  return { ...operation, holes: [], walls: [], keep_in: [], keep_out: [] };
}

/** The same operations once more, after the last of them. */
export function duplicated(d: JobDocument, setup: number, names: string[], geometry = true) {
  const list = d.setups[setup].operations;
  const mine = list.filter((o) => names.includes(o.name));
  const taken = new Set(list.map((o) => o.name));
  const copies = mine.map((o) => {
    const name = free(o.name, taken);
    taken.add(name);
    return { ...structuredClone(geometry ? o : withoutGeometry(o)), name };
  });
  list.splice(list.indexOf(mine[mine.length - 1]) + 1, 0, ...copies);
}

export function removed(d: JobDocument, setup: number, names: string[]) {
  const own = d.setups[setup];
  own.operations = own.operations.filter((o) => !names.includes(o.name));
  for (const r of own.repeats ?? []) r.operations = r.operations.filter((n) => !names.includes(n));
  own.repeats = own.repeats?.filter((r) => r.operations.length > 0);
  for (const r of d.releases) {
    if (r.setup === own.name) r.operations = r.operations?.filter((n) => !names.includes(n)) ?? null;
  }
}

export function renamed(d: JobDocument, setup: number, from: string, to: string) {
  const own = d.setups[setup];
  const other = (n: string) => (n === from ? to : n);
  for (const r of d.releases) {
    if (r.setup === own.name) r.operations = r.operations?.map(other) ?? null;
  }
  for (const r of own.repeats ?? []) r.operations = r.operations.map(other);
  for (const o of own.operations) if (o.name === from) o.name = to;
}

/** Operations with the tools they need, as they are copied from one place to another, or to another job. */
export interface Copied {
  operations: Operation[];
  tools: Tool[];
}

const COPIED = "fenrik.copied";

export function copy(d: JobDocument, setup: number, names: string[]): Copied {
  const operations = d.setups[setup].operations.filter((o) => names.includes(o.name));
  const tools = d.tools.filter((t) => operations.some((o) => o.tool === t.number));
  const copied = { operations, tools };
  localStorage.setItem(COPIED, JSON.stringify(copied));
  return copied;
}

export function lastCopied(): Copied | null {
  try {
    return JSON.parse(localStorage.getItem(COPIED) ?? "null") as Copied | null;
  } catch {
    return null;
  }
}

/** Puts copied operations at the end of a setup; their tools come along, under a free number where theirs is another's. */
export function pasted(d: JobDocument, setup: number, copied: Copied, geometry: boolean) {
  const own = d.setups[setup];
  const numbers = new Map<number, number>();
  for (const tool of copied.tools) {
    const alike = (t: Tool) => JSON.stringify({ ...t, number: 0 }) === JSON.stringify({ ...tool, number: 0 });
    const same = d.tools.find(alike);
    let number = same?.number ?? tool.number;
    if (!same) {
      while (d.tools.some((t) => t.number === number)) number++;
      d.tools.push({ ...tool, number });
    }
    numbers.set(tool.number, number);
  }
  const areas = new Set((own.areas ?? []).map((a) => a.name));
  const known = (o: Operation): Operation => ({
    ...o,
    keep_in: o.keep_in.filter((b) => !b.area || areas.has(b.area)),
    keep_out: o.keep_out.filter((b) => !b.area || areas.has(b.area)),
  });
  const taken = new Set(own.operations.map((o) => o.name));
  for (const o of copied.operations) {
    const name = free(o.name, taken);
    taken.add(name);
    own.operations.push({
      ...(geometry ? known(o) : withoutGeometry(o)),
      name,
      tool: numbers.get(o.tool) ?? o.tool,
    });
  }
}

export const repeatOf = (setup: Setup, name: string): Repeat | undefined =>
  setup.repeats?.find((r) => r.operations.includes(name));

function count({ how, leave_out }: Repeat): number {
  const all = {
    polar: () => ("count" in how ? how.count : 0),
    linear: () => ("count" in how ? how.count : 0),
    grid: () => ("rows" in how ? how.columns * how.rows : 0),
    listed: () => ("at" in how ? how.at.length + 1 : 0),
    mirror: () => 2,
    rotary: () => (how.kind === "rotary" ? (how.count ?? 4) : 0),
  }[how.kind]();
  return all - leave_out.length;
}

export const HOW_WORDS: Record<Repeat["how"]["kind"], string> = {
  polar: "on a circle",
  linear: "along a line",
  grid: "in a grid",
  listed: "at given places",
  mirror: "and mirrored",
  rotary: "with the work turned on",
};

export const repeatWords = (repeat: Repeat) =>
  `${repeat.name}: ${count(repeat)} × ${HOW_WORDS[repeat.how.kind]}`;

/** A repeat of some operations that belong to none yet. */
export function repeated(d: JobDocument, setup: number, names: string[]) {
  const own = d.setups[setup];
  const repeats = (own.repeats ??= []);
  for (const r of repeats) r.operations = r.operations.filter((n) => !names.includes(n));
  own.repeats = repeats.filter((r) => r.operations.length > 0);
  const name = free("Repeat", new Set(own.repeats.map((r) => r.name)));
  const how = { kind: "polar" as const, centre: [0, 0] as [number, number], count: 4, step_deg: null };
  own.repeats.push({ name, operations: names, how, leave_out: [] });
}
