import { Button, Textarea } from "@mantine/core";
import { useState } from "react";
import { useValues } from "../../api/hooks";
import { followsFaces, isRound } from "../../api/traits";
import type { Operation } from "../../api/types";
import { ChoiceField, NameField, SwitchField } from "../../forms/fields";
import { ParameterForm } from "../../forms/ParameterForm";
import { FaceChoice } from "../../picks/FaceChoice";
import { HoleChoice } from "../../picks/Holes";
import { LineChoice } from "../../picks/Lines";
import { WallChoice } from "../../picks/Walls";
import { useShared } from "../../session/context";
import { isArm, machinesOf } from "../../session/machines";
import { useChosen } from "../../session/store";
import { ArmFields } from "./ArmFields";
import { Borders } from "./Areas";
import { Consequences } from "./Consequences";
import { Feeds } from "./Feeds";
import { HeightFields } from "./HeightFields";
import { duplicated, removed, renamed } from "./operations";
import { RepeatFields } from "./Repeats";

/** The setup's own direction among its sides. */
const ABOVE = "";

/** What is decided for the selected operation, what follows, and the rest. */
export function PlanCard() {
  const { id, document, revision, library, editing } = useShared();
  const { setup, operation, set } = useChosen("setup", "operation", "set");
  const doc = operation !== null ? document.setups[setup]?.operations[operation] : undefined;
  const answer = useValues(id, revision, setup, doc ? operation : null).data;
  // until a change of the sheet is saved, the answer is of the operation that stood here before
  const values = answer?.strategy === doc?.strategy ? answer : undefined;
  if (!doc || operation === null)
    return <p className="small">Choose an operation on the sheet, or add one.</p>;
  const strategy = library.strategies.find((s) => s.id === doc.strategy)!;
  const sides = document.setups[setup].sides ?? [];
  const edit = (work: (o: Operation) => void) =>
    editing.edit((d) => work(d.setups[setup].operations[operation]));
  const derived = values?.derived ?? {};
  const machine = machinesOf(document, library).find((m) => m.id === document.setups[setup].machine);
  const rename = (name: string) => editing.edit((d) => renamed(d, setup, doc.name, name));
  return (
    <>
      <h2>{strategy.title}</h2>
      <p className="small">{strategy.summary}</p>
      <NameField label="Name" value={doc.name} onSave={rename} />
      <ChoiceField
        label="Tool"
        value={String(doc.tool)}
        data={document.tools
          .filter((t) => t.number === doc.tool || strategy.kinds.includes(t.kind))
          .map((t) => ({ value: String(t.number), label: `T${t.number} ${t.name}` }))}
        onSave={(v) => edit((o) => void (o.tool = Number(v)))}
      />
      {(sides.length > 0 || doc.side) && (
        <ChoiceField
          label="Side"
          value={doc.side ?? ABOVE}
          data={[
            { value: ABOVE, label: "From above" },
            ...sides.map((s) => ({ value: s.name, label: s.name })),
          ]}
          onSave={(v) => edit((o) => void (o.side = v === ABOVE ? null : v))}
        />
      )}
      {isRound(strategy) && (
        <>
          <h3>{strategy.target === "bosses" ? "Bosses" : "Holes"}</h3>
          <HoleChoice doc={doc} edit={edit} places={strategy.target} />
        </>
      )}
      {(strategy.target === "walls" || strategy.target === "rims" || strategy.target === "ruled") && (
        <>
          <h3>{strategy.target === "rims" ? "Edges" : "Walls"}</h3>
          <WallChoice doc={doc} edit={edit} target={strategy.target} />
        </>
      )}
      {strategy.target === "lines" && (
        <>
          <h3>Lines</h3>
          <LineChoice doc={doc} edit={edit} />
        </>
      )}
      {followsFaces(strategy) && (
        <>
          <h3>Faces</h3>
          <FaceChoice doc={doc} edit={edit} />
        </>
      )}
      <h3>Decide</h3>
      <ParameterForm
        strategy={strategy}
        given={doc.parameters}
        resolved={values?.parameters ?? {}}
        derived={derived}
        units={document.units}
        onSave={(key, value) =>
          edit((o) => {
            if (value === null) delete o.parameters[key];
            else o.parameters[key] = value;
          })
        }
      />
      <h3>Speed and feed</h3>
      <Feeds doc={doc} edit={edit} derived={derived} />
      {machine && isArm(machine) && (
        <>
          <h3>Arm</h3>
          <ArmFields doc={doc} edit={edit} table={machine.joints.length > 6} />
        </>
      )}
      <h3>Results</h3>
      {values && <Consequences doc={doc} values={values} strategy={strategy} />}
      {!isRound(strategy) && strategy.axis === "fixed" && (
        <>
          <h3>Keep in, keep out</h3>
          <Borders doc={doc} edit={edit} />
        </>
      )}
      <RepeatFields setup={setup} name={doc.name} />
      <h3>Heights</h3>
      <HeightFields doc={doc} edit={edit} />
      <h3>Operation</h3>
      <Notes value={doc.notes} onSave={(v) => edit((o) => void (o.notes = v))} />
      <SwitchField
        label="Switched on"
        value={doc.enabled}
        onSave={(v) => edit((o) => void (o.enabled = v))}
      />
      <div style={{ display: "flex", gap: 6, marginTop: 8 }}>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => editing.edit((d) => duplicated(d, setup, [doc.name]))}
        >
          Duplicate
        </Button>
        <Button
          size="compact-xs"
          variant="subtle"
          color="gray"
          onClick={() => {
            editing.edit((d) => removed(d, setup, [doc.name]));
            set({ operation: null });
          }}
        >
          Remove
        </Button>
      </div>
    </>
  );
}

/** Words for whoever runs it; they stand on the setup sheet. */
function Notes({ value, onSave }: { value: string; onSave: (v: string) => void }) {
  const [text, setText] = useState(value);
  const [seen, see] = useState(value);
  if (seen !== value) {
    see(value);
    setText(value);
  }
  return (
    <Textarea
      label="Notes"
      autosize
      minRows={1}
      maxLength={2000}
      value={text}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={() => text !== value && onSave(text)}
    />
  );
}
