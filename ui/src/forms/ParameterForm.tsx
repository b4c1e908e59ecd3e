import { useState } from "react";
import { Button, Stack, TextInput } from "@mantine/core";
import type { Derived, ParameterSchema, StrategyInfo } from "../api/types";
import { ChoiceField, LengthField, PlainField, SwitchField, TextField } from "./fields";

interface Props {
  strategy: StrategyInfo;
  given: Record<string, unknown>;
  resolved: Record<string, unknown>;
  derived: Record<string, Derived>;
  units: "mm" | "inch";
  onSave: (key: string, value: unknown) => void;
}

const words = (key: string) => key.replace(/_(deg|mm)$/, "").replaceAll("_", " ");
export const sentence = (key: string) => {
  // an axis at the end has its capital
  const text = words(key).replace(/ [xyz]$/, (axis) => axis.toUpperCase());
  return text[0].toUpperCase() + text.slice(1);
};

/** What a parameter is called: its own title, or its name as a sentence. */
export const labelOf = (name: string, schema?: ParameterSchema) => {
  // a title is made from the name unless the strategy gives one
  const own = schema?.title?.toLowerCase() !== name.replaceAll("_", " ");
  return own && schema?.title ? schema.title : sentence(name);
};

/** A strategy's form, built from the schema of its parameters: what is decided first, the rest folded. */
export function ParameterForm(props: Props) {
  const [open, setOpen] = useState(false);
  const [search, setSearch] = useState("");
  const all = Object.entries(props.strategy.parameters.properties);
  const visible = all.filter(([, s]) => shown(s, props));
  const decide = visible.filter(([, s]) => s.group !== "rest");
  const wanted = search.toLowerCase();
  const rest = visible.filter(([k, s]) => s.group === "rest" && labelOf(k, s).toLowerCase().includes(wanted));
  return (
    <Stack gap={8}>
      {decide.map(([key, schema]) => (
        <Parameter key={key} name={key} schema={schema} {...props} />
      ))}
      <Button variant="subtle" size="compact-xs" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "Fewer settings" : "More settings"}
      </Button>
      {open && (
        <>
          <TextInput
            size="xs"
            placeholder="Find a setting"
            aria-label="Find a setting"
            value={search}
            onChange={(e) => setSearch(e.currentTarget.value)}
          />
          {rest.map(([key, schema]) => (
            <Parameter key={key} name={key} schema={schema} {...props} />
          ))}
        </>
      )}
    </Stack>
  );
}

/** Whether a parameter counts with the values that the others have. */
export function shown(schema: ParameterSchema, { given, resolved }: Pick<Props, "given" | "resolved">) {
  return Object.entries(schema.shown_when ?? {}).every(([k, v]) =>
    Array.isArray(v) ? v.includes(given[k] ?? resolved[k]) : (given[k] ?? resolved[k]) === v,
  );
}

/** One parameter by its schema. */
export function Parameter({
  name,
  schema,
  given,
  resolved,
  derived,
  units,
  onSave,
}: { name: string; schema: ParameterSchema } & Omit<Props, "strategy">) {
  const label = labelOf(name, schema);
  const value = given[name] ?? schema.default ?? null;
  const proposed = resolved[name];
  const open = !(name in given) || given[name] === null;
  if (schema.enum) {
    const data = schema.enum.map((v) => ({ value: v, label: sentence(v) }));
    return <ChoiceField label={label} value={value as string} data={data} onSave={(v) => onSave(name, v)} />;
  }
  if (schema.type === "boolean") {
    return <SwitchField label={label} value={value as boolean} onSave={(v) => onSave(name, v)} />;
  }
  const optional = !!schema.anyOf;
  const origin = open ? (derived[name]?.origin ?? (optional ? schema.reason : "default")) : "given";
  const why = [schema.description, derived[name]?.formula ?? schema.reason].filter(Boolean).join(" ");
  const shown = typeof proposed === "number" ? String(Number(proposed.toFixed(4))) : "";
  const placeholder = optional ? shown : undefined; // what may stay open may be emptied
  const common = { label, value: value as number | null, origin, why, placeholder };
  if (schema.type === "string" || schema.anyOf?.some((kind) => kind.type === "string")) {
    return (
      <TextField
        label={label}
        value={value as string | null}
        origin={open ? undefined : "given"}
        why={why}
        onSave={(v) => onSave(name, v)}
      />
    );
  }
  if (schema.unit === "mm") {
    return <LengthField {...common} units={units} onSave={(v) => onSave(name, v)} />;
  }
  return <PlainField {...common} suffix={schema.unit ?? ""} onSave={(v) => onSave(name, v)} />;
}
