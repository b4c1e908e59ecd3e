import { Button } from "@mantine/core";
import type { LinePick, Operation } from "../api/types";
import { ChoiceField, LengthField, NameField, PlainField } from "../forms/fields";
import { useShared } from "../session/context";
import { lineOf } from "../session/fresh";

const ALIGNED = [
  { value: "left", label: "Begins at the position" },
  { value: "middle", label: "Centred on the position" },
  { value: "right", label: "Ends at the position" },
];

function words(line: LinePick) {
  if (line.edge) return `Edge ${line.edge}`;
  if (line.face) return `The border of face ${line.face}`;
  return `${line.closed ? "A closed line" : "A line"} of ${line.points?.length ?? 0} points`;
}

/** What an operation engraves: texts, edges, borders of faces, lines of points. */
export function LineChoice({
  doc,
  edit,
}: {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}) {
  const { document } = useShared();
  const units = document.units;
  const lines = doc.lines ?? [];
  const change = (i: number, more: Partial<LinePick>) =>
    edit((o) => void (o.lines![i] = { ...o.lines![i], ...more }));
  const out = (i: number) => edit((o) => void o.lines!.splice(i, 1));
  return (
    <div role="group" aria-label="Lines to engrave">
      {lines.map((line, i) => (
        <div key={i} style={{ marginBottom: 10 }}>
          {line.text != null && line.at ? (
            <>
              <NameField label="Text" value={line.text} onSave={(text) => change(i, { text })} />
              <div className="two">
                <LengthField
                  label="Position X"
                  value={line.at[0]}
                  units={units}
                  onSave={(x) => x !== null && change(i, { at: [x, line.at![1]] })}
                />
                <LengthField
                  label="Position Y"
                  value={line.at[1]}
                  units={units}
                  onSave={(y) => y !== null && change(i, { at: [line.at![0], y] })}
                />
                <LengthField
                  label="Height of capitals"
                  value={line.height ?? 4}
                  units={units}
                  onSave={(height) => height !== null && change(i, { height })}
                />
                <PlainField
                  label="Angle"
                  suffix="°"
                  value={line.angle_deg ?? 0}
                  onSave={(v) => change(i, { angle_deg: v ?? 0 })}
                />
              </div>
              <ChoiceField
                label="Alignment"
                value={line.align ?? "left"}
                data={ALIGNED}
                onSave={(v) => change(i, { align: v as LinePick["align"] })}
              />
            </>
          ) : (
            <span className="small">{words(line)}</span>
          )}
          <Button
            size="compact-xs"
            variant="subtle"
            color="gray"
            aria-label={`Remove ${line.text ?? words(line)}`}
            onClick={() => out(i)}
          >
            Remove
          </Button>
        </div>
      ))}
      {lines.length === 0 && (
        <p className="small">Add a text, or click a face or an edge in the view to engrave it.</p>
      )}
      <Button
        size="compact-xs"
        variant="default"
        onClick={() =>
          edit((o) => {
            o.lines = [...(o.lines ?? []), lineOf({ text: "No. 1", at: [0, 0], align: "middle" })];
          })
        }
      >
        Add a text
      </Button>
    </div>
  );
}
