import { Button, Select } from "@mantine/core";
import { useState } from "react";
import type { Derived, Operation, ParameterSchema } from "../../api/types";
import { Parameter, sentence } from "../../forms/ParameterForm";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";
import { copy, duplicated, lastCopied, pasted, removed, repeated } from "./operations";

/** Of an operation itself what may be changed in many at once; the rest are parameters of its strategy. */
const OWN: Record<string, ParameterSchema> = {
  spindle_rpm: { title: "Spindle speed", unit: "1/min", anyOf: [{ type: "number" }, { type: "null" }] },
  feed_mm_min: { title: "Feed", unit: "mm/min", anyOf: [{ type: "number" }, { type: "null" }] },
  entry_feed_mm_min: { title: "Entry feed", unit: "mm/min", anyOf: [{ type: "number" }, { type: "null" }] },
  boldness: { title: "Proposals, 0 cautious to 1 bold", type: "number" },
  tolerance_mm: { title: "Tolerance", unit: "mm", type: "number" },
  coolant: { title: "Coolant", enum: ["off", "flood", "mist"] },
  when_short: { title: "Where shank or holder would touch", enum: ["trim", "raise", "leave"] },
  feed_follows: { title: "Feed follows", enum: ["plan", "engagement"] },
};

/** What can be done with all marked operations at once. */
export function Marked() {
  const { document, editing } = useShared();
  const { setup, marked, set } = useChosen("setup", "marked", "set");
  const own = document.setups[setup];
  const chosen = own?.operations.filter((o) => marked.includes(o.name)) ?? [];
  if (chosen.length === 0) return null;
  const names = chosen.map((o) => o.name);
  const on = chosen.some((o) => !o.enabled);
  const each = (work: (o: Operation) => void) =>
    editing.edit((d) => d.setups[setup].operations.filter((o) => names.includes(o.name)).forEach(work));
  const actions: [string, () => void][] = [
    ["Duplicate", () => editing.edit((d) => duplicated(d, setup, names))],
    ["Duplicate without geometry", () => editing.edit((d) => duplicated(d, setup, names, false))],
    [
      "Copy",
      () => {
        copy(document, setup, names);
        set({ marked: [] });
      },
    ],
    [
      "Repeat",
      () => {
        editing.edit((d) => repeated(d, setup, names));
        set({ operation: own.operations.findIndex((o) => o.name === names[0]), marked: [] });
      },
    ],
    [on ? "Switch on" : "Switch off", () => each((o) => void (o.enabled = on))],
    [
      "Remove",
      () => {
        editing.edit((d) => removed(d, setup, names));
        set({ marked: [], operation: null });
      },
    ],
  ];
  return (
    <div className="marked" role="group" aria-label="Marked operations">
      <strong>
        {chosen.length} marked in {own.name}
      </strong>
      <div style={{ display: "flex", flexWrap: "wrap", gap: 6, margin: "6px 0" }}>
        {actions.map(([label, act]) => (
          <Button key={label} size="compact-xs" variant="default" onClick={act}>
            {label}
          </Button>
        ))}
      </div>
      <ChangeAll chosen={chosen} each={each} />
    </div>
  );
}

interface ChangeProps {
  chosen: Operation[];
  each: (work: (o: Operation) => void) => void;
}

/** One setting changed in all marked operations that have it. */
function ChangeAll({ chosen, each }: ChangeProps) {
  const { library, document } = useShared();
  const [key, setKey] = useState<string | null>(null);
  const schemas = chosen.map(
    (o) => library.strategies.find((s) => s.id === o.strategy)?.parameters.properties ?? {},
  );
  const common = Object.entries(schemas[0] ?? {}).filter(([k]) => schemas.every((s) => k in s));
  const fields = new Map<string, ParameterSchema>([...Object.entries(OWN), ...common]);
  const schema = key !== null ? fields.get(key) : undefined;
  const own = key !== null && key in OWN;
  const values = chosen.map((o) => (own ? o[key as keyof Operation] : o.parameters[key ?? ""]) ?? null);
  const same = values.every((v) => v === values[0]);
  const save = (name: string, value: unknown) =>
    each((o) => {
      if (own) Object.assign(o, { [name]: value });
      else if (value === null) delete o.parameters[name];
      else o.parameters[name] = value;
    });
  const none: Record<string, Derived> = {};
  return (
    <div className="two" style={{ alignItems: "end" }}>
      <Select
        label="Change in all"
        placeholder="Choose a setting"
        searchable
        value={key}
        data={[...fields].map(([k, s]) => ({ value: k, label: s.title ? sentence(s.title) : sentence(k) }))}
        onChange={setKey}
      />
      {schema && key && (
        <Parameter
          key={key}
          name={key}
          schema={same ? schema : { ...schema, default: undefined }}
          given={same && values[0] !== null ? { [key]: values[0] } : {}}
          resolved={{}}
          derived={none}
          units={document.units}
          onSave={save}
        />
      )}
    </div>
  );
}

/** Puts what was copied here or in another job into the chosen setup. */
export function Paste() {
  const { document, editing } = useShared();
  const { setup } = useChosen("setup", "marked"); // copying lets go of what was marked
  const copied = lastCopied();
  const own = document.setups[setup] ?? document.setups[0];
  if (!copied || copied.operations.length === 0 || !own) return null;
  const index = document.setups.indexOf(own);
  const many =
    copied.operations.length === 1
      ? `“${copied.operations[0].name}”`
      : `${copied.operations.length} operations`;
  return (
    <div style={{ display: "flex", gap: 6, margin: "8px 0", flexWrap: "wrap" }}>
      <Button
        size="compact-xs"
        variant="subtle"
        onClick={() => editing.edit((d) => pasted(d, index, copied, true))}
      >
        Paste {many} into {own.name}
      </Button>
      <Button
        size="compact-xs"
        variant="subtle"
        onClick={() => editing.edit((d) => pasted(d, index, copied, false))}
      >
        without geometry
      </Button>
    </div>
  );
}
