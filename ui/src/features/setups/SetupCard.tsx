import type { Setup } from "../../api/types";
import { ChoiceField, LengthField, NameField, PlainField, SwitchField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { offsetOf } from "../../session/machines";
import { useChosen } from "../../session/store";
import { rename } from "../../session/changes";
import { WaysUp } from "./WaysUp";
import { BetweenSides } from "./BetweenSides";
import { SideFields } from "./SideFields";
import { MachineChoice } from "./machine/MachineChoice";
import { FixtureFields } from "./fixture/FixtureFields";
import { ArrayFields, StockFields, ZeroFields } from "./SetupFields";

const AXES = ["+x", "-x", "+y", "-y", "+z", "-z"];
/** The settings of the chosen setup. */
export function SetupCard() {
  const { document, editing, library, faces } = useShared();
  const { setup: index } = useChosen("setup");
  const i = Math.min(index, document.setups.length - 1);
  const setup = document.setups[i];
  if (!setup) return <p className="small">A setup's settings stand here.</p>;
  const edit = (work: (s: Setup) => void) => editing.edit((d) => work(d.setups[i]));
  const up = setup.up.face ? `face ${setup.up.face}` : setup.up.axis!;
  return (
    <>
      <h2>{setup.name}</h2>
      <NameField label="Name" value={setup.name} onSave={(name) => editing.edit((d) => rename(d, i, name))} />
      <h3>Up</h3>
      <ChoiceField
        label="Up direction"
        value={up}
        data={[...AXES, ...(setup.up.face ? [up] : [])].map((a) => ({
          value: a,
          label: a.replace("face", "Face"),
        }))}
        onSave={(v) => edit((s) => void (s.up = { axis: v as typeof s.up.axis, face: null, reverse: false }))}
        help={
          setup.up.face
            ? `${faces[setup.up.face - 1]?.kind ?? "face"} picked in the view`
            : "or click a face or bore in the view"
        }
      />
      <div className="two" style={{ alignItems: "end", marginTop: 6 }}>
        <PlainField
          label="Turn about up"
          suffix="°"
          value={setup.turn_deg}
          onSave={(v) => edit((s) => void (s.turn_deg = v ?? 0))}
        />
        <SwitchField
          label="Flip"
          value={setup.up.reverse}
          onSave={(v) => edit((s) => void (s.up = { ...s.up, reverse: v }))}
        />
      </div>
      <WaysUp setup={setup} edit={edit} />
      <h3>Sides</h3>
      <SideFields index={i} setup={setup} />
      <BetweenSides index={i} setup={setup} edit={edit} />
      <h3>Machine and material</h3>
      <MachineChoice index={i} setup={setup} />
      <ChoiceField
        label="Material"
        value={setup.material}
        data={library.materials.map((m) => ({ value: m.id, label: `${m.group}  ${m.name}` }))}
        onSave={(v) => edit((s) => void (s.material = v))}
      />
      <h3>Stock</h3>
      <StockFields setup={setup} edit={edit} />
      <ArrayFields setup={setup} edit={edit} />
      <h3>Fixture</h3>
      <FixtureFields index={i} setup={setup} edit={edit} />
      <h3>Program zero</h3>
      <ZeroFields setup={setup} edit={edit} />
      {offsetOf(document, library, setup) !== null && (
        <ChoiceField
          label="Work offset"
          value={setup.work_offset}
          data={[54, 55, 56, 57, 58, 59].map((n) => ({ value: `G${n}`, label: `G${n}` }))}
          onSave={(v) => edit((s) => void (s.work_offset = v as typeof s.work_offset))}
        />
      )}
      {!setup.held_in && (
        <>
          <h3>Place on the table</h3>
          <div className="points" style={{ alignItems: "end" }}>
            {(["x", "y", "z"] as const).map((axis) => (
              <LengthField
                key={axis}
                label={axis === "z" ? "Height" : axis.toUpperCase()}
                units={document.units}
                value={setup.placement[axis]}
                onSave={(v) => edit((s) => void (s.placement[axis] = v ?? 0))}
              />
            ))}
          </div>
        </>
      )}
    </>
  );
}
