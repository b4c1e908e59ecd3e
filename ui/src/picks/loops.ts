import type { EdgeFacts, Vec3 } from "../api/types";

const SAME_MM = 1e-4;
const meet = (a: Vec3, b: Vec3) => a.every((v, i) => Math.abs(v - b[i]) < SAME_MM);

/** The edges (ids, in their order) that go round a face with one of them: from end to end until it closes. */
export function loopOf(edge: EdgeFacts, face: number, edges: EdgeFacts[]): number[] {
  const found = [edge.id];
  let at = edge.end;
  const left = edges.filter((e) => e.id !== edge.id && e.faces.includes(face));
  while (!meet(at, edge.start)) {
    const next = left.findIndex((e) => meet(e.start, at) || meet(e.end, at));
    if (next < 0) break;
    const [e] = left.splice(next, 1);
    found.push(e.id);
    at = meet(e.start, at) ? e.end : e.start;
  }
  return found;
}
