import { expect, test } from "vitest";
import { blankTool } from "./kinds";
import { lengthIn, matches } from "./search";

test("a diameter is understood as people write it", () => {
  for (const text of ["8", "Ø8", "ø 8", "8 mm", "8,0", "8.0mm"]) expect(lengthIn(text, "mm")).toBeCloseTo(8);
  for (const text of ["5/16 in", "5/16", '5/16"', "0.3125 inch"])
    expect(lengthIn(text, "mm")).toBeCloseTo(7.9375);
  expect(lengthIn("0.5", "inch")).toBeCloseTo(12.7);
  expect(lengthIn("ball 8", "mm")).toBeNull();
});

test("tools are found by diameter, number and words, not by a diameter that only begins alike", () => {
  const ball = { ...blankTool(7), name: "Ball mill 8", kind: "ball" as const, diameter: 8 };
  const drill = { ...blankTool(8), name: "Drill 8.5", kind: "drill" as const, diameter: 8.5 };
  expect([ball, drill].filter((t) => matches(t, "8", "mm"))).toEqual([ball]);
  expect([ball, drill].filter((t) => matches(t, "T8", "mm"))).toEqual([drill]);
  expect([ball, drill].filter((t) => matches(t, "ball end", "mm"))).toEqual([ball]);
  expect([ball, drill].filter((t) => matches(t, "", "mm"))).toHaveLength(2);
});
