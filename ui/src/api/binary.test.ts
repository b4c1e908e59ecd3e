import { readFileSync } from "node:fs";
import { expect, test } from "vitest";
import { unpack } from "./binary";

test("reads the golden blob that Python packs", () => {
  const file = readFileSync("../tests/data/golden.bin");
  const blob = unpack(file.buffer.slice(file.byteOffset, file.byteOffset + file.byteLength) as ArrayBuffer);
  expect(blob.head).toEqual({ name: "golden", count: 3 });
  expect([...blob.arrays.lengths]).toEqual([1.5, -2.25, 1000.125]);
  expect([...blob.arrays.ids]).toEqual([7, -1, 2147483647]);
  expect([...blob.arrays.flags]).toEqual([1, 0, 1, 1, 0]);
});

test("refuses what is something else", () => {
  expect(() => unpack(new TextEncoder().encode("{ not a blob }").buffer as ArrayBuffer)).toThrow(
    "no Fenrik blob",
  );
});
