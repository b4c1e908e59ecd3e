import { Checkbox, NumberInput, Select, Text, TextInput, Tooltip } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { send } from "../api/client";
import { entering, tell } from "../api/hooks";
import { refusedWords, savedFrom } from "../api/refusal";

export const INCH = 25.4;

export function shownLength(mm: number, units: "mm" | "inch"): string {
  const text = units === "inch" ? (mm / INCH).toFixed(4) : mm.toFixed(3);
  return text
    .replace(/(\.\d*?)0+$/, "$1")
    .replace(/\.$/, "")
    .replace(/^-0$/, "0");
}

/** What is typed in a field. A refused value stays with its reason under it until it is typed over or taken back. */
function useTyped<T>(shown: T, label: string, unit = "") {
  const [text, setText] = useState(shown);
  const [fault, setFault] = useState<string | null>(null);
  const refused = useRef(false);
  const there = useRef(true);
  useEffect(() => {
    there.current = true;
    return () => void (there.current = false);
  }, []);
  useEffect(() => {
    if (refused.current) return;
    setText(shown);
    setFault(null);
  }, [shown]);
  const takeBack = () => {
    refused.current = false;
    setText(shown);
    setFault(null);
  };
  return {
    text,
    fault,
    takeBack,
    refuse: setFault,
    write: (value: T) => {
      refused.current = false;
      setText(value);
    },
    save: (act: () => unknown) => {
      setFault(null);
      savedFrom((why) => {
        const words = refusedWords(label, why, unit);
        if (!there.current) return tell(words); // something else was chosen meanwhile
        refused.current = true;
        setFault(words);
      }, act);
    },
  };
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
  const typed = useTyped(shown, label, "mm");
  const save = async () => {
    const text = typed.text.trim();
    if (text === shown) return typed.takeBack();
    if (text === "") {
      if (placeholder !== undefined) return typed.save(() => onSave(null));
      return typed.takeBack();
    }
    try {
      const body = { text, unit: units === "inch" ? "in" : "mm" };
      const length = await send<number>("POST", "/length", body);
      typed.save(() => onSave(length));
    } catch (error) {
      typed.refuse(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <TextInput
      label={<Labelled label={label} origin={origin} why={why} />}
      aria-label={label}
      value={typed.text}
      placeholder={placeholder}
      error={typed.fault}
      rightSection={<span className="unit">{suffix ?? (units === "inch" ? "in" : "mm")}</span>}
      rightSectionWidth={(suffix ?? "mm").length * 7 + 14}
      onChange={(e) => typed.write(e.currentTarget.value)}
      onBlur={() => entering(save())}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") typed.takeBack();
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
  const typed = useTyped<string | number>(value ?? "", label);
  const save = () => {
    const number = typed.text === "" ? null : Number(typed.text);
    if (number === value) return typed.takeBack();
    if (number === null && placeholder === undefined) return typed.takeBack();
    if (number !== null && !Number.isFinite(number)) return typed.refuse(`'${typed.text}' is not a number.`);
    typed.save(() => onSave(number));
  };
  return (
    <NumberInput
      label={<Labelled label={label} origin={origin} why={why} />}
      aria-label={label}
      value={typed.text}
      error={typed.fault ?? error}
      placeholder={placeholder}
      hideControls
      rightSection={<span className="unit">{suffix}</span>}
      rightSectionWidth={suffix.length * 7 + 14}
      onChange={typed.write}
      onBlur={save}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") typed.takeBack();
      }}
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
  const [fault, setFault] = useState<string | null>(null);
  useEffect(() => setFault(null), [data.length]);
  const save = (v: string) => {
    setFault(null);
    savedFrom(
      (why) => setFault(refusedWords(label, why)),
      () => onSave(v),
    );
  };
  return (
    <Select
      label={label}
      value={value}
      data={data}
      error={fault}
      allowDeselect={false}
      comboboxProps={{ withinPortal: true }}
      description={help}
      onChange={(v) => v !== null && v !== value && save(v)}
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
  const typed = useTyped(value, label);
  const text = typed.text.trim();
  return (
    <TextInput
      label={label}
      value={typed.text}
      error={typed.fault}
      onChange={(e) => typed.write(e.currentTarget.value)}
      onBlur={() => (text && text !== value ? typed.save(() => onSave(text)) : typed.takeBack())}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") typed.takeBack();
      }}
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
  const typed = useTyped(value ?? "", label);
  const save = () => {
    const words = typed.text.trim() || null;
    if (words !== value) typed.save(() => onSave(words));
  };
  return (
    <TextInput
      label={<Labelled label={label} origin={origin} why={why} />}
      aria-label={label}
      value={typed.text}
      error={typed.fault}
      onChange={(e) => typed.write(e.currentTarget.value)}
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
