import type { Side, Setup } from "../../api/types";
import { ChoiceField } from "../../forms/fields";
import { BoxPoints } from "./BoxPoints";

type Zero = Setup["zero"];

/** Where the zero of a side is: the program zero, a picked point, or a point of the box about stock or part as the
 * side sees it. */
export function SideZero({ side, edit }: { side: Side; edit: (work: (s: Side) => void) => unknown }) {
  const origin = side.origin ?? null;
  const box = origin !== null && !Array.isArray(origin) ? (origin as Zero) : null;
  const point = Array.isArray(origin) ? (origin as number[]) : (box?.point ?? null);
  const value = point ? "point" : box ? box.of : "program";
  const take = (of: string) => {
    if (of === "point") return;
    const zero = { of: of as Zero["of"], x: "middle", y: "middle", z: "high", point: null } as Zero;
    edit((s) => void (s.origin = of === "program" ? null : zero));
  };
  return (
    <>
      <ChoiceField
        label="Zero of the side"
        value={value}
        data={[
          { value: "program", label: "Program zero" },
          { value: "stock", label: "The stock’s box" },
          { value: "part", label: "The part’s box" },
          ...(point ? [{ value: "point", label: "A picked point" }] : []),
        ]}
        onSave={take}
        help={
          point
            ? point.map((v) => v.toFixed(3)).join(", ") + " of the part"
            : "or look along the side and pick a point"
        }
      />
      {box && !point && (
        <BoxPoints
          zero={box}
          label={side.name}
          onTake={(values) => edit((s) => void (s.origin = { ...box, ...values }))}
        />
      )}
    </>
  );
}
