import { expect, test } from "vitest";
import type { JobState } from "../../api/types";
import { standing } from "./standing";

const job = (operations: string[], releases: object[], more: object = {}) =>
  ({
    part: { state: "ready" },
    setups: [{ state: "ready", operations: operations.map((state) => ({ state })) }],
    releases,
    ...more,
  }) as unknown as JobState;

test("a job says what it is waiting for and leads there", () => {
  expect(standing(job([], [], { part: { state: "missing" } }), "").station).toBe("part");
  expect(standing(job([], [], { setups: [] }), "")).toMatchObject({
    text: "no setup yet",
    station: "setups",
  });
  expect(standing(job([], []), "")).toMatchObject({ text: "no operation yet", station: "plan" });
  expect(standing(job(["new"], [{ state: "stale" }]), "")).toMatchObject({ text: "not computed" });
  expect(standing(job(["ready"], [{ state: "stale" }]), "")).toMatchObject({ station: "prove" });
  expect(standing(job(["failed", "failed"], []), "")).toMatchObject({
    text: "2 operations failed",
    look: "wrong",
  });
  expect(standing(job(["ready"], []), "prove").text).toBe("proving");
});

test("a proof with a stop does not look fine", () => {
  const proved = (stops: number, cautions: number) =>
    standing(job(["ready"], [{ state: "ready", stops, cautions }]), "");
  expect(proved(0, 0)).toMatchObject({ text: "proved", look: "ready" });
  expect(proved(0, 2)).toMatchObject({ text: "proved, 2 cautions", look: "ready" });
  expect(proved(1, 0)).toMatchObject({ text: "proved, 1 stop", look: "wrong" });
});
