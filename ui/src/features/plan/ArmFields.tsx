import type { Operation } from "../../api/types";
import { ChoiceField, PlainField } from "../../forms/fields";

const HELD = { search: "spin", table_deg: 0, spin_deg: 0 } as const;
const SEARCHED = [
  { value: "spin", label: "the spin about the tool" },
  { value: "table", label: "the table's angle" },
  { value: "none", label: "nothing" },
];

/** How an arm holds the tool of an operation: what is searched over the whole path, and what is held. */
export function ArmFields({
  doc,
  edit,
  table,
}: {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
  table: boolean;
}) {
  const arm = { ...HELD, ...doc.arm };
  const save = (change: Partial<NonNullable<Operation["arm"]>>) =>
    edit((o) => void (o.arm = { ...HELD, ...o.arm, ...change }));
  return (
    <>
      <ChoiceField
        label="Searched"
        value={arm.search}
        data={SEARCHED.filter((s) => table || s.value !== "table")}
        help="Over the whole path, so that the arm keeps one posture where it can; the others are held."
        onSave={(v) => save({ search: v as typeof arm.search })}
      />
      <div className="two">
        {table && arm.search !== "table" && (
          <PlainField
            label="Table at"
            suffix="°"
            value={arm.table_deg}
            onSave={(v) => save({ table_deg: v ?? 0 })}
          />
        )}
        {arm.search !== "spin" && (
          <PlainField
            label="Spin at"
            suffix="°"
            value={arm.spin_deg}
            onSave={(v) => save({ spin_deg: v ?? 0 })}
          />
        )}
      </div>
    </>
  );
}
