import type { Vec3 } from "../api/types";
import { LengthField } from "./fields";

const AXES = ["X", "Y", "Z"];

/** Coordinates of a place, two or three. */
export function Point<P extends Vec3 | [number, number]>(props: {
  label: string;
  units: "mm" | "inch";
  at: P;
  put: (at: P) => unknown;
}) {
  return (
    <div className="points" style={{ alignItems: "end" }}>
      {props.at.map((value, k) => (
        <LengthField
          key={AXES[k]}
          label={`${props.label} ${AXES[k]}`}
          units={props.units}
          value={value}
          onSave={(v) => {
            const place = [...props.at] as P;
            place[k] = v ?? 0;
            return props.put(place);
          }}
        />
      ))}
    </div>
  );
}
