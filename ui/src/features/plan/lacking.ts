import type { Operation, StrategyInfo } from "../../api/types";

/** What an operation has still to be given before it can be computed, in words; empty where nothing lacks. */
export function lacking(doc: Operation, strategy: StrategyInfo | undefined): string {
  switch (strategy?.target) {
    case "walls":
    case "ruled":
      return doc.walls?.length ? "" : "No wall is chosen yet: click walls in the view.";
    case "rims":
      return doc.walls?.length ? "" : "No edge is chosen yet: click edges or tops in the view.";
    case "holes":
      return doc.holes?.length ? "" : "No hole is chosen yet.";
    case "bosses":
      return doc.holes?.length ? "" : "No boss is chosen yet.";
    case "rounds":
      return doc.holes?.length ? "" : "No hole or boss is chosen yet.";
    case "lines":
      return doc.lines?.length ? "" : "No text or line is chosen yet.";
    default:
      return "";
  }
}
