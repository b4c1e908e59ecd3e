import type { Fault } from "./types";

type Told = (fault: Fault) => void;

let field: Told | null = null;

/** Saves what a field holds; if the edit that is made meanwhile is refused, the field is told. */
export function savedFrom<T>(told: Told, save: () => T): T {
  const before = field;
  field = told;
  try {
    return save();
  } finally {
    field = before;
  }
}

/** The field that is being saved at this moment, to be told if its value is refused. */
export const savingField = (): Told | null => field;

/** Why a value is refused, with the label that the field has on the page. */
export function refusedWords(label: string, fault: Fault, unit = ""): string {
  if (!fault.rule) return `${fault.what} ${fault.remedy ?? ""}`.trim();
  const bare = !unit || / 0$/.test(fault.rule);
  return `${label} ${fault.rule}${bare ? "" : ` ${unit}`}.`;
}
