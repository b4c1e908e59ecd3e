import { Button } from "@mantine/core";
import { useState } from "react";
import type { Setup } from "../../api/types";
import { NameField, PlainField, SwitchField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { heldJoints, machinesOf } from "../../session/machines";
import { givenBy, leaningSide, removeSide, renameSide, rotarySide, standing } from "../../session/sides";
import { useChosen } from "../../session/store";
import { SideZero } from "./SideZero";
import { SidesNeeded } from "./SidesNeeded";

/** The further directions from which a setup is worked, and why its machine cannot reach one. */
export function SideFields({ index, setup }: { index: number; setup: Setup }) {
  const { editing, document, library } = useShared();
  const sides = setup.sides ?? [];
  const machine = machinesOf(document, library).find((m) => m.id === setup.machine);
  const letters = machine ? heldJoints(machine) : [];
  const add = (make: (taken: string[]) => (typeof sides)[number]) =>
    editing.edit((d) => {
      const own = d.setups[index];
      own.sides = [...(own.sides ?? []), make((own.sides ?? []).map((s) => s.name))];
    });
  return (
    <>
      {sides.length === 0 && (
        <p className="small">
          Worked from above only. Click a face, a bore, an edge, or three points in the view and choose “Work
          from here” for another direction.
        </p>
      )}
      {sides.map((side, i) => (
        <SideCard key={side.name} index={index} setup={setup} place={i} />
      ))}
      {!(setup.array ?? null) && (
        <div className="buttons">
          <Button size="compact-xs" variant="subtle" onClick={() => void add(leaningSide)}>
            Side by two angles
          </Button>
          {letters.length > 0 && (
            <Button
              size="compact-xs"
              variant="subtle"
              onClick={() => void add((taken) => rotarySide(letters, taken))}
            >
              Side by rotary positions
            </Button>
          )}
        </div>
      )}
      <SidesNeeded index={index} setup={setup} />
    </>
  );
}

/** One side: its name, how it is turned, where its zero is, and how the machine stands for it. */
function SideCard({ index, setup, place }: { index: number; setup: Setup; place: number }) {
  const { editing, state, faces } = useShared();
  const { sideShown, set } = useChosen("sideShown", "set");
  const side = setup.sides![place];
  const facts = state?.setups[index]?.sides?.[place];
  const edit = (work: (s: typeof side) => void) => editing.edit((d) => work(d.setups[index].sides![place]));
  const { lean, rotary } = side.up;
  const [open, unfold] = useState(false);
  return (
    <div role="group" aria-label={`Side ${side.name}`} style={{ marginBottom: 10 }}>
      <NameField
        label={`Side, ${givenBy(side, faces)}`}
        value={side.name}
        onSave={(name) => editing.edit((d) => renameSide(d.setups[index], side.name, name))}
      />
      <div className="small">{standing(facts?.joints)}</div>
      {lean && (
        <div className="two" style={{ marginTop: 4 }}>
          <PlainField
            label="Leans from up"
            suffix="°"
            value={lean.from_up_deg}
            onSave={(v) => edit((s) => void (s.up.lean!.from_up_deg = v ?? 0))}
          />
          <PlainField
            label="Towards, from X"
            suffix="°"
            value={lean.towards_deg ?? 0}
            onSave={(v) => edit((s) => void (s.up.lean!.towards_deg = v ?? 0))}
          />
        </div>
      )}
      {rotary && (
        <div className="two" style={{ marginTop: 4 }}>
          {Object.entries(rotary).map(([letter, at]) => (
            <PlainField
              key={letter}
              label={`${letter} at`}
              suffix="°"
              value={at}
              onSave={(v) => edit((s) => void (s.up.rotary![letter] = v ?? 0))}
            />
          ))}
        </div>
      )}
      <div className="row">
        <Button
          variant="subtle"
          size="compact-xs"
          aria-label={`Look along ${side.name}`}
          aria-pressed={sideShown === side.name}
          onClick={() => set({ sideShown: sideShown === side.name ? null : side.name })}
        >
          {sideShown === side.name ? "Look at all" : "Look along it"}
        </Button>
        <Button
          variant="subtle"
          size="compact-xs"
          aria-label={`Turn and zero of ${side.name}`}
          aria-expanded={open}
          onClick={() => unfold(!open)}
        >
          Turn and zero
        </Button>
        <Button
          variant="subtle"
          color="gray"
          size="compact-xs"
          aria-label={`Remove side ${side.name}`}
          onClick={() => editing.edit((d) => removeSide(d.setups[index], side.name))}
        >
          Remove
        </Button>
      </div>
      {open && (
        <>
          <div className="two" style={{ alignItems: "end", marginTop: 4 }}>
            <PlainField
              label="Turn about its axis"
              suffix="°"
              value={side.turn_deg ?? 0}
              onSave={(v) => edit((s) => void (s.turn_deg = v ?? 0))}
            />
            <SwitchField
              label="From the other end"
              value={side.up.reverse ?? false}
              onSave={(v) => edit((s) => void (s.up.reverse = v))}
            />
          </div>
          <SideZero side={side} edit={edit} />
        </>
      )}
      {facts?.out_of_reach && (
        <div className="problem wrong" role="alert">
          The machine cannot work from here: {facts.out_of_reach}.
        </div>
      )}
    </div>
  );
}
