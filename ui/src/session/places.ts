import type { JobDocument, Operation, Setup } from "../api/types";

export interface Place {
  setup: number;
  operation: number | null;
  /** What follows, such as a field of the operation. */
  rest: string;
}

/** A place in the document as the server names it (`setups[0].operations[2].keep_in[0]`); null where it is elsewhere. */
export function placeOf(where: string): Place | null {
  const at = /^setups\[(\d+)\](?:\.operations\[(\d+)\])?\.?(.*)$/.exec(where);
  return at && { setup: Number(at[1]), operation: at[2] ? Number(at[2]) : null, rest: at[3] };
}

/** The setup and the operation at a place, where the document has them. */
export function foundAt(place: Place | null, document: JobDocument) {
  const setup: Setup | undefined = place ? document.setups[place.setup] : undefined;
  const operation: Operation | undefined =
    place?.operation != null ? setup?.operations[place.operation] : undefined;
  return { setup, operation };
}

/** The same as the sheets name it: the setup, the operation's number and name. */
export function placeWords(where: string, document: JobDocument) {
  const place = placeOf(where);
  const { setup, operation } = foundAt(place, document);
  if (!place || !setup) return where;
  const number = operation ? `${place.setup + 1}.${place.operation! + 1} ${operation.name}` : "";
  return [setup.name, number, place.rest].filter(Boolean).join(", ");
}
