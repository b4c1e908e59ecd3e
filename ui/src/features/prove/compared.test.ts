import { expect, test } from "vitest";
import { compared, type Compared } from "./compared";

const proof = (time: number, operations: [string, number, number][], stops = 0) =>
  ({
    time_s: time,
    deviation: {
      max_overcut_mm: 0.004,
      max_leftover_mm: 1,
      share_within_tolerance: 0.5,
      share_of_reachable: 0.99,
    },
    findings: Array.from({ length: stops }, () => ({ severity: "stop" })),
    operations: operations.map(([name, time_s, power]) => ({ name, time_s, load: { power_max_kw: power } })),
  }) as unknown as Compared;

test("proofs are told beside one another, operations only where their time differs", () => {
  const rows = compared(
    proof(100, [["Rough", 60, 1], ["Face", 40, 2]]), // prettier-ignore
    proof(90, [["Rough", 50, 3], ["Face", 40, 2], ["Edge", 5, 0]], 1), // prettier-ignore
    (mm) => String(mm),
    (s) => `${s} s`,
  );
  const of = Object.fromEntries(rows.map(([what, a, b]) => [what, [a, b]]));
  expect(of["Run time"]).toEqual(["100 s", "90 s"]);
  expect(of["Power, at most"]).toEqual(["2.00 kW", "3.00 kW"]);
  expect(of["Stops"]).toEqual(["0", "1"]);
  expect(of["Rough"]).toEqual(["60 s", "50 s"]);
  expect(of["Edge"]).toEqual(["none", "5 s"]);
  expect(of["Face"]).toBeUndefined();
});
