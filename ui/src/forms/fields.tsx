import { Checkbox, NumberInput, Select, Text, TextInput, Tooltip } from "@mantine/core";
import { useEffect, useState } from "react";
import { send } from "../api/client";
import { entering, tell } from "../api/hooks";

export const INCH = 25.4;

export function shownLength(mm: number, units: "mm" | "inch"): string {
  const text = units === "inch" ? (mm / INCH).toFixed(4) : mm.toFixed(3);
  return text.replace(/(\.\d*?)0+$/, "$1").replace(/\.$/, "");
}

interface LengthProps {
  label: string;
  value: number | null;
  units: "mm" | "inch";
  onSave: (mm: number | null) => void;
  placeholder?: string;
  origin?: string;
  why?: string;
  suffix?: string;
}

/** A length that takes units and arithmetic (3/8in, 2*6+0.5); Enter or leaving saves, Esc takes back. */
export function LengthField({ label, value, units, onSave, placeholder, origin, why, suffix }: LengthProps) {
  const shown = value === null ? "" : shownLength(value, units);
  const [text, setText] = useState(shown);
  const [fault, setFault] = useState<string | null>(null);
  useEffect(() => {
    setText(shown);
    setFault(null);
  }, [shown]);
  const save = async () => {
    if (text.trim() === shown) return setFault(null);
    if (text.trim() === "") {
      if (placeholder !== undefined) return onSave(null);
      return setText(shown);
    }
    try {
      const body = { text, unit: units === "inch" ? "in" : "mm" };
      onSave(await send<number>("POST", "/length", body));
      setFault(null);
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <TextInput
      label={<Labelled label={label} origin={origin} why={why} />}
      aria-label={label}
      value={text}
      placeholder={placeholder}
      error={fault}
      rightSection={<span className="unit">{suffix ?? (units === "inch" ? "in" : "mm")}</span>}
      rightSectionWidth={(suffix ?? "mm").length * 7 + 14}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={() => entering(save())}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") {
          setText(shown);
          setFault(null);
        }
      }}
    />
  );
}

export function Labelled({ label, origin, why }: { label: string; origin?: string; why?: string }) {
  return (
    <span className="labelled">
      {label}
      {origin && (
        <Tooltip label={why ?? origin} multiline w={280} openDelay={200}>
          <span className="origin">{origin}</span>
        </Tooltip>
      )}
    </span>
  );
}

interface PlainProps {
  label: string;
  value: number | null;
  onSave: (value: number | null) => void;
  suffix: string;
  placeholder?: string;
  origin?: string;
  why?: string;
  /** What is wrong with the value; it is saved all the same. */
  error?: string;
}

export function PlainField({ label, value, onSave, suffix, placeholder, origin, why, error }: PlainProps) {
  const [text, setText] = useState<string | number>(value ?? "");
  useEffect(() => setText(value ?? ""), [value]);
  const save = () => {
    const number = text === "" ? null : Number(text);
    if (number === value) return;
    if (number === null && placeholder === undefined) return setText(value ?? "");
    if (number !== null && !Number.isFinite(number)) return tell(`${label}: '${text}' is not a number.`);
    onSave(number);
  };
  return (
    <NumberInput
      label={<Labelled label={label} origin={origin} why={why} />}
      aria-label={label}
      value={text}
      error={error}
      placeholder={placeholder}
      hideControls
      rightSection={<span className="unit">{suffix}</span>}
      rightSectionWidth={suffix.length * 7 + 14}
      onChange={setText}
      onBlur={save}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
    />
  );
}

interface ChoiceProps {
  label: string;
  value: string | null;
  data: { value: string; label: string }[];
  onSave: (value: string) => void;
  help?: string;
}

export function ChoiceField({ label, value, data, onSave, help }: ChoiceProps) {
  return (
    <Select
      label={label}
      value={value}
      data={data}
      allowDeselect={false}
      comboboxProps={{ withinPortal: true }}
      description={help}
      onChange={(v) => v !== null && v !== value && onSave(v)}
    />
  );
}

export function NameField({
  label,
  value,
  onSave,
}: {
  label: string;
  value: string;
  onSave: (v: string) => void;
}) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  return (
    <TextInput
      label={label}
      value={text}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={() => text.trim() && text !== value && onSave(text.trim())}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
    />
  );
}

interface TextProps {
  label: string;
  value: string | null;
  onSave: (v: string | null) => void;
  origin?: string;
  why?: string;
}

/** Words that may be left out. */
export function TextField({ label, value, onSave, origin, why }: TextProps) {
  const [text, setText] = useState(value ?? "");
  useEffect(() => setText(value ?? ""), [value]);
  const save = () => {
    const words = text.trim() || null;
    if (words !== value) onSave(words);
  };
  return (
    <TextInput
      label={<Labelled label={label} origin={origin} why={why} />}
      aria-label={label}
      value={text}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={save}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
    />
  );
}

export function SwitchField({
  label,
  value,
  onSave,
}: {
  label: string;
  value: boolean;
  onSave: (v: boolean) => void;
}) {
  return <Checkbox label={label} checked={value} onChange={(e) => onSave(e.currentTarget.checked)} />;
}

/** A number that follows from decisions, with where it comes from. */
export function Follows({ label, value, why }: { label: string; value: string; why?: string }) {
  return (
    <Tooltip label={why} disabled={!why} multiline w={300} openDelay={150}>
      <div className="follows">
        <Text size="xs">{label}</Text>
        <Text size="xs" className="figure">
          {value}
        </Text>
      </div>
    </Tooltip>
  );
}
