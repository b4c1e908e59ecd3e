import { Radio } from "@mantine/core";
import { shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";
import type { Fault } from "../../api/types";

/** The bodies of a file that holds several, with size and place: one of them is the part. */
export function Bodies() {
  const { document, state, editing, runs } = useShared();
  const run = runs.find((r) => r.target === "part");
  const failed = run?.state === "failed" ? (run.error as Fault | null) : null;
  const bodies = state?.part.bodies?.length ? state.part.bodies : failed?.offer?.solids;
  if (!document.part || !bodies?.length) return null;
  const units = document.units;
  const lengths = (values: readonly number[], between: string) =>
    values.map((v) => shownLength(v, units)).join(between);
  return (
    <Radio.Group
      label={`The file holds ${bodies.length} bodies: which one is the part?`}
      value={String(document.part.solid ?? "")}
      onChange={(v) =>
        editing.edit((d) => void (d.part!.solid = Number(v))).then((ok) => void (ok && editing.start("part")))
      }
      style={{ marginTop: 10 }}
    >
      <div style={{ maxHeight: 260, overflowY: "auto", marginTop: 6 }}>
        {bodies.map((b) => (
          <Radio
            key={b.number}
            size="xs"
            value={String(b.number)}
            label={`${b.number}: ${lengths(b.size, " x ")}, lowest corner at ${lengths(b.low, ", ")}`}
            style={{ marginBottom: 4 }}
          />
        ))}
      </div>
    </Radio.Group>
  );
}
