import type { Height, Operation } from "../../api/types";
import { ChoiceField, LengthField } from "../../forms/fields";
import { sentence } from "../../forms/ParameterForm";
import { useShared } from "../../session/context";

/** An operation, and how it is changed. */
export interface Part {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}

const REFERENCES = [
  { value: "stock_top", label: "over stock top" },
  { value: "stock_bottom", label: "over stock bottom" },
  { value: "part_top", label: "over part top" },
  { value: "part_bottom", label: "over part bottom" },
  { value: "zero", label: "over zero" },
];

/** The heights of an operation, each over what it refers to, and its tolerance. */
export function HeightFields({ doc, edit }: Part) {
  const { document } = useShared();
  return (
    <>
      {(["clearance", "retract", "bottom"] as const).map((key) => (
        <div className="two" key={key}>
          <LengthField
            label={sentence(key)}
            units={document.units}
            value={doc.heights[key].offset}
            onSave={(v) => edit((o) => void (o.heights[key].offset = v ?? 0))}
          />
          <ChoiceField
            label={`${sentence(key)} from`}
            value={doc.heights[key].over}
            data={REFERENCES}
            onSave={(v) => edit((o) => void (o.heights[key].over = v as Height["over"]))}
          />
        </div>
      ))}
      <LengthField
        label="Feed height over stock"
        units={document.units}
        value={doc.heights.feed}
        onSave={(v) => edit((o) => void (o.heights.feed = v ?? 1))}
      />
      <LengthField
        label="Tolerance"
        units={document.units}
        value={doc.tolerance_mm}
        onSave={(v) => edit((o) => void (o.tolerance_mm = v ?? 0.01))}
      />
    </>
  );
}
