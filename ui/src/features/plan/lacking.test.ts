import { expect, test } from "vitest";
import type { StrategyInfo } from "../../api/types";
import { freshOperation } from "../../session/fresh";
import { lacking } from "./lacking";

const by = (target: string) => ({ target }) as StrategyInfo;

test("an operation says what it has still to be given, and nothing once it has it", () => {
  const plain = freshOperation("Op", "profile", 1);
  expect(lacking(plain, by("areas"))).toBe("");
  expect(lacking(plain, by("walls"))).toContain("No wall is chosen");
  expect(lacking({ ...plain, walls: [{ face: 3, outline: false }] }, by("walls"))).toBe("");
  expect(lacking(plain, by("holes"))).toContain("No hole");
  expect(lacking(plain, by("lines"))).toContain("No text");
});
