import type { ProofFacts } from "../../api/types";

/** What two proofs are compared by. */
export type Compared = Pick<ProofFacts, "time_s" | "deviation" | "findings" | "operations">;

type Row = [what: string, before: string, now: string];

/** Two proofs row by row: time, deviation, load, findings, and the times of operations that differ. */
export function compared(
  before: Compared,
  now: Compared,
  length: (mm: number) => string,
  clock: (s: number) => string,
): Row[] {
  const row = (what: string, of: (p: Compared) => string): Row => [what, of(before), of(now)];
  const most = (p: Compared, key: "power_max_kw" | "force_max_n" | "bending_max_mm") =>
    Math.max(0, ...p.operations.map((o) => o.load?.[key] ?? 0));
  const share = (v: number | undefined) => (typeof v === "number" ? `${(100 * v).toFixed(2)} %` : "");
  const count = (p: Compared, severity: string) =>
    String(p.findings.filter((f) => f.severity === severity).length);
  const names = [...new Set([...before.operations, ...now.operations].map((o) => o.name))];
  const time = (p: Compared, name: string) => {
    const own = p.operations.find((o) => o.name === name);
    return own ? clock(own.time_s) : "none";
  };
  return [
    row("Run time", (p) => clock(p.time_s)),
    row("Largest overcut", (p) => length(p.deviation.max_overcut_mm)),
    row("Largest leftover", (p) => length(p.deviation.max_leftover_mm)),
    row("Surface on size", (p) => share(p.deviation.share_within_tolerance)),
    row("Reachable surface on size", (p) => share(p.deviation.share_of_reachable)),
    row("Power, at most", (p) => `${most(p, "power_max_kw").toFixed(2)} kW`),
    row("Force, at most", (p) => `${most(p, "force_max_n").toFixed(0)} N`),
    row("Tool bends by up to", (p) => length(most(p, "bending_max_mm"))),
    row("Stops", (p) => count(p, "stop")),
    row("Cautions", (p) => count(p, "caution")),
    ...names.map((n) => row(n, (p) => time(p, n))).filter(([, a, b]) => a !== b),
  ];
}
