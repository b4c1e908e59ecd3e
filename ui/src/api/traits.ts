import type { StrategyInfo } from "./types";

/** Whether a strategy works on round holes or bosses. */
export function isRound(strategy: StrategyInfo): boolean {
  return ["holes", "bosses", "rounds"].includes(strategy.target);
}
