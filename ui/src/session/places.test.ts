import { expect, test } from "vitest";
import type { JobDocument } from "../api/types";
import { placeOf, placeWords } from "./places";

const document = {
  setups: [{ name: "Top", operations: [{ name: "Face" }, { name: "Rough" }] }],
} as unknown as JobDocument;

test("a place in the document is named as the sheets do", () => {
  expect(placeOf("setups[0].operations[1].keep_in[0]")).toEqual({
    setup: 0,
    operation: 1,
    rest: "keep_in[0]",
  });
  expect(placeWords("setups[0].operations[1]", document)).toBe("Top, 1.2 Rough");
  expect(placeWords("setups[0].operations[1].keep_in[0]", document)).toBe("Top, 1.2 Rough, keep_in[0]");
  expect(placeWords("setups[0].stock", document)).toBe("Top, stock");
  expect(placeWords("part.file", document)).toBe("part.file");
  expect(placeWords("setups[7]", document)).toBe("setups[7]");
});
