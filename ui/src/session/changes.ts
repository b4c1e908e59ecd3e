import type { JobDocument, Setup } from "../api/types";
import { boxStock } from "./fresh";

const UP: Setup["up"] = { axis: "+z", face: null, reverse: false };

/** A new setup: the first one as it is proposed, one after others of the other side, in what the last one leaves. */
export function fresh(before: Setup[], first: Setup["up"] = UP): Setup {
  const count = before.length;
  const last = before[count - 1];
  const up = last ? opposite(last.up) : first;
  const carried = last && !last.array;
  let name = count === 0 ? "Top" : `Setup ${count + 1}`;
  for (let n = count + 2; before.some((s) => s.name === name); n++) name = `Setup ${n}`;
  return {
    name,
    up,
    turn_deg: 0,
    machine: last?.machine ?? "column_mill_500",
    material: last?.material ?? "aluminium_wrought",
    stock: carried ? { kind: "carried", setup: last.name } : boxStock(),
    array: null,
    zero: { of: "stock", x: "middle", y: "middle", z: "high", point: null },
    work_offset: `G${54 + Math.min(count, 5)}` as Setup["work_offset"],
    placement: { x: 0, y: 0, z: 60 },
    operations: [],
    sides: [],
    between_sides: { over: "upper_end", radius: null, room: 20 },
    areas: [],
    repeats: [],
    held_in: null,
    fixture: [],
  };
}

/** The other side of the part: what follows a setup is mostly made turned over. */
function opposite(up: Setup["up"]): Setup["up"] {
  if (!up.axis) return { ...up, reverse: !up.reverse };
  const axis = ((up.axis.startsWith("-") ? "+" : "-") + up.axis.slice(1)) as Setup["up"]["axis"];
  return { ...up, axis };
}

/** Gives a setup another name, and all that speak of it. */
export function rename(document: JobDocument, index: number, name: string) {
  const old = document.setups[index].name;
  const now = (s: string) => (s === old ? name : s);
  for (const r of document.releases) {
    r.setup = now(r.setup);
    if (r.also) r.also = r.also.map(now);
  }
  for (const s of document.setups) if (s.stock.kind === "carried") s.stock.setup = now(s.stock.setup);
  document.setups[index].name = name;
}

/** Takes a setup out: what stood in what it leaves begins in a box, releases go on with their other setups. */
export function remove(document: JobDocument, index: number) {
  const gone = document.setups.splice(index, 1)[0].name;
  for (const r of document.releases) {
    const left = [r.setup, ...(r.also ?? [])].filter((s) => s !== gone);
    r.setup = left[0];
    if (r.also) r.also = left.slice(1);
  }
  document.releases = document.releases.filter((r) => r.setup !== undefined);
  for (const s of document.setups)
    if (s.stock.kind === "carried" && s.stock.setup === gone) s.stock = boxStock();
}
