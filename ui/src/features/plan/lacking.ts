import type { Operation, StrategyInfo } from "../../api/types";

/** What an operation has still to be given before it can be computed, in words; empty where nothing lacks. */
export function lacking(doc: Operation, strategy: StrategyInfo | undefined): string {
  switch (strategy?.target) {
    case "walls":
    case "ruled":
      return doc.walls?.length ? "" : "no wall is chosen yet: click walls in the view";
    case "rims":
      return doc.walls?.length ? "" : "no edge is chosen yet: click edges or tops in the view";
    case "holes":
      return doc.holes?.length ? "" : "no hole is chosen yet";
    case "bosses":
      return doc.holes?.length ? "" : "no boss is chosen yet";
    case "rounds":
      return doc.holes?.length ? "" : "no hole or boss is chosen yet";
    case "lines":
      return doc.lines?.length ? "" : "no text or line is chosen yet";
    default:
      return "";
  }
}
