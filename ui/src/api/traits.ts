import type { StrategyInfo } from "./types";

/** Whether a strategy works on round holes or bosses. */
export function isRound(strategy: StrategyInfo): boolean {
  return ["holes", "bosses", "rounds"].includes(strategy.target);
}

/** Whether a strategy finishes surfaces with an upright tool: faces can be chosen for it. */
export const followsFaces = (strategy: StrategyInfo) =>
  strategy.finishes && strategy.target === "areas" && strategy.axis !== "moving";
