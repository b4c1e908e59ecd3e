/** Text with numbers, one row a line, split at blanks, commas or semicolons; lines without anything are left out. */
export function rowsOf(text: string): number[][] {
  return text
    .split("\n")
    .map((line) =>
      line
        .trim()
        .split(/[\s,;]+/)
        .filter(Boolean)
        .map(Number),
    ) // prettier-ignore
    .filter((row) => row.length > 0);
}

/** The number (from 1) of the first row that is not of so many numbers, null where all are. */
export function wrongRow(rows: number[][], least: number, most: number): number | null {
  const at = rows.findIndex(
    (row) => row.length < least || row.length > most || row.some((v) => !Number.isFinite(v)),
  );
  return at < 0 ? null : at + 1;
}

/** Rows as text, one a line. */
export const textOf = (rows: number[][]) => rows.map((row) => row.join(" ")).join("\n");
