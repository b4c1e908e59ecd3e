import { Button } from "@mantine/core";
import type { FaceFacts, Setup, Side } from "../../api/types";
import { NameField, PlainField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { SidesNeeded } from "./SidesNeeded";
import { useChosen } from "../../session/store";
import { removeSide, renameSide, standing } from "../../session/sides";

/** The further directions from which a setup is worked, and why its machine cannot reach one. */
export function SideFields({ index, setup }: { index: number; setup: Setup }) {
  const { editing, state, faces } = useShared();
  const { sideShown, set } = useChosen("sideShown", "set");
  const sides = setup.sides ?? [];
  const facts = state?.setups[index]?.sides ?? [];
  return (
    <>
      {sides.length === 0 && (
        <p className="small">
          Worked from above only. Click a face or a bore in the view and choose “Work from here” for another
          direction.
        </p>
      )}
      {sides.map((side, i) => (
        <div key={side.name} role="group" aria-label={`Side ${side.name}`} style={{ marginBottom: 10 }}>
          <NameField
            label={`Side, ${towards(side, faces)}`}
            value={side.name}
            onSave={(name) => editing.edit((d) => renameSide(d.setups[index], side.name, name))}
          />
          <div className="two" style={{ alignItems: "end", marginTop: 4 }}>
            <PlainField
              label="Turn about its axis"
              suffix="°"
              value={side.turn_deg ?? 0}
              onSave={(v) => editing.edit((d) => void (d.setups[index].sides![i].turn_deg = v ?? 0))}
            />
            <Button
              variant="subtle"
              color="gray"
              size="compact-xs"
              onClick={() => editing.edit((d) => removeSide(d.setups[index], side.name))}
            >
              Remove side
            </Button>
          </div>
          <div className="row">
            <Button
              variant="subtle"
              size="compact-xs"
              aria-label={`Look along ${side.name}`}
              aria-pressed={sideShown === side.name}
              onClick={() => set({ sideShown: sideShown === side.name ? null : side.name })}
            >
              {sideShown === side.name ? "Look at the whole again" : "Look along it"}
            </Button>
            <span className="small">{standing(facts[i]?.joints)}</span>
          </div>
          {facts[i]?.out_of_reach && (
            <div className="problem wrong" role="alert">
              The machine cannot work from here: {facts[i].out_of_reach}.
            </div>
          )}
        </div>
      ))}
      <SidesNeeded index={index} setup={setup} />
    </>
  );
}

function towards(side: Side, faces: FaceFacts[]): string {
  if (!side.up.face) return `towards ${side.up.axis} of the part`;
  const flat = faces[side.up.face - 1]?.kind === "plane";
  return flat ? `towards face ${side.up.face}` : `along bore ${side.up.face}`;
}
