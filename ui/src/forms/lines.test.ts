import { expect, test } from "vitest";
import { rowsOf, textOf, wrongRow } from "./lines";

test("rows of numbers are read as they are typed, and one that is none is told by its number", () => {
  expect(rowsOf("1 2\n\n 3,-4.5 ; \n")).toEqual([
    [1, 2],
    [3, -4.5],
  ]);
  expect(wrongRow(rowsOf("1 2\n3 4 5"), 2, 3)).toBeNull();
  expect(wrongRow(rowsOf("1 2\n3 4 5"), 2, 2)).toBe(2);
  expect(wrongRow(rowsOf("1 x"), 2, 2)).toBe(1);
  expect(rowsOf(textOf([[1.25, -3]]))).toEqual([[1.25, -3]]);
});
