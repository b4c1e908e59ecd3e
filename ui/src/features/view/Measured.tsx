import { Button, Checkbox } from "@mantine/core";
import type { Vec3 } from "../../api/types";
import { shownLength } from "../../forms/fields";
import { takenOut, type BodyPick, type Gap } from "../../scene/measuring";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";

/** Begins and ends measuring between bodies. */
export function MeasureButton() {
  const { measuring, set } = useChosen("measuring", "set");
  const on = measuring !== null;
  return (
    <Button
      size="compact-xs"
      variant={on ? "filled" : "default"}
      aria-pressed={on}
      onClick={() => set({ measuring: on ? null : [], picks: [] })}
    >
      Measure
    </Button>
  );
}

/** What was picked to be measured between and what lies between; one click takes it out of the placing. */
export function Measured({ gap, setupName }: { gap: Gap | null; setupName: string | undefined }) {
  const { document, editing, station } = useShared();
  const { measuring, byAxes, throughStock, set } = useChosen("measuring", "byAxes", "throughStock", "set");
  if (measuring === null) return null;
  const u = document.units;
  const length = (v: number) => `${shownLength(v, u)} ${u === "inch" ? "in" : "mm"}`;
  const [first, second] = measuring;
  const by = gap && second ? takenOut(gap, first, second) : null;
  const axis = byAxes && first?.axis;
  const round = measuring.some((p) => p.axis);
  const named = (p: BodyPick) => {
    if (!byAxes || !p.axis) return p.body;
    return p.axis.radius ? `axis of Ø${length(2 * p.axis.radius)}` : "axis of the tool";
  };
  const index = document.setups.findIndex((s) => s.name === setupName);
  const moved = by?.some((v) => Math.abs(v) > 0) && index >= 0;
  const take = async (way: Vec3) => {
    const done = await editing.edit((d) => {
      const setup = d.setups[index];
      const at = setup.held_in
        ? (setup.held_in.on_table ??= { x: 0, y: 0, z: 0, turn_deg: 0 })
        : setup.placement;
      (["x", "y", "z"] as const).forEach((axis, i) => {
        at[axis] = Math.round(((at[axis] ?? 0) + way[i]) * 1000) / 1000 + 0;
      });
    });
    if (done) set({ measuring });
  };
  const rows: [string, number][] = gap
    ? [
        [axis ? "Square to the first axis" : "Out of the first face", gap.out],
        ["From place to place", gap.distance],
        ["along X", gap.way[0]],
        ["along Y", gap.way[1]],
        ["along Z", gap.way[2]],
      ]
    : [];
  return (
    <div className="offer" role="group" aria-label="Measured">
      <p className="small">
        {!first && "Pick a face of any body."}
        {first && !second && `From the ${named(first)}. Pick a second.`}
        {second && `From the ${named(first)} to the ${named(second)}.`}
      </p>
      {rows.map(([label, value]) => (
        <div key={label} className="follows">
          <span>{label}</span>
          <span className="figure">{length(value)}</span>
        </div>
      ))}
      <div style={{ display: "grid", gap: 6, margin: "6px 0" }}>
        {station === "setups" && (
          <Checkbox
            size="xs"
            label="The part through the stock"
            checked={throughStock}
            onChange={(e) => set({ throughStock: e.currentTarget.checked })}
          />
        )}
        {round && (
          <Checkbox
            size="xs"
            label="Round faces by their axis"
            checked={byAxes}
            onChange={(e) => set({ byAxes: e.currentTarget.checked })}
          />
        )}
      </div>
      <div className="row">
        {moved && (
          <Button
            size="compact-xs"
            title={`Moves what stands on the table until the second place lies ${axis ? "on the first axis" : "in the first face"}`}
            onClick={() => void take(by!)}
          >
            Take the gap out of the placing
          </Button>
        )}
        {first && (
          <Button size="compact-xs" variant="default" onClick={() => set({ measuring: [] })}>
            Pick anew
          </Button>
        )}
      </div>
    </div>
  );
}
