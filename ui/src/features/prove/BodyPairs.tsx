import { Checkbox, SegmentedControl } from "@mantine/core";
import type { JobDocument, ProofFacts } from "../../api/types";
import { LengthField } from "../../forms/fields";
import { useShared } from "../../session/context";

type Pair = NonNullable<ProofFacts["bodies"]>[number];

const ASKED: { value: JobDocument["proof"]["bodies"]; label: string }[] = [
  { value: "machine", label: "Machine" },
  { value: "all", label: "All" },
  { value: "none", label: "None" },
];

/** Which pairs of bodies the proof looks at, as a small matrix, and how near they may pass. */
export function BodyPairs({ pairs }: { pairs: readonly Pair[] }) {
  const { document, editing } = useShared();
  const { bodies, bodies_off: off } = document.proof;
  const rows = [...new Set(pairs.map((p) => p.first))];
  const columns = [...new Set(pairs.map((p) => p.second))];
  const isOff = (a: string, b: string) => (off ?? []).some((p) => p.includes(a) && p.includes(b));
  const flip = (a: string, b: string, on: boolean) =>
    editing.edit((d) => {
      const rest = (d.proof.bodies_off ?? []).filter((p) => !(p.includes(a) && p.includes(b)));
      d.proof.bodies_off = on ? rest : [...rest, [a, b]];
    });
  return (
    <>
      <h3>Bodies of the machine</h3>
      <SegmentedControl
        size="xs"
        fullWidth
        aria-label="Pairs of bodies looked at"
        value={bodies ?? "machine"}
        data={ASKED as { value: string; label: string }[]}
        onChange={(v) => editing.edit((d) => void (d.proof.bodies = v as JobDocument["proof"]["bodies"]))}
      />
      <p className="small">
        {bodies === "none"
          ? "No bodies are looked at."
          : bodies === "all"
            ? "All pairs that move against each other; stock against the tool is cut."
            : "What cutting does not look at: the machine against all that stands on its table."}
      </p>
      <LengthField
        label="Near miss under"
        units={document.units}
        value={document.proof.near_mm ?? 2}
        onSave={(v) => v !== null && editing.edit((d) => void (d.proof.near_mm = v))}
      />
      {bodies !== "none" && rows.length > 0 && (
        <div className="pairs">
          <table aria-label="Pairs of bodies">
            <thead>
              <tr>
                <th>
                  <span className="unseen">Body</span>
                </th>
                {columns.map((name) => (
                  <th key={name}>
                    <span>{name}</span>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row}>
                  <th scope="row">{row}</th>
                  {columns.map((column) => {
                    const pair = pairs.find((p) => p.first === row && p.second === column);
                    const able = pair && (pair.asked || isOff(row, column));
                    return (
                      <td key={column}>
                        {able && (
                          <Checkbox
                            size="xs"
                            aria-label={`${row} against ${column}`}
                            checked={!isOff(row, column)}
                            onChange={(e) => flip(row, column, e.currentTarget.checked)}
                          />
                        )}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
