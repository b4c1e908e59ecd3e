import { Slider } from "@mantine/core";
import { useState } from "react";
import type { Derived, Operation } from "../../api/types";
import { ChoiceField, INCH, Labelled, LengthField, PlainField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { beyond, machinesOf } from "../../session/machines";
import { useChosen } from "../../session/store";
import type { Part } from "./HeightFields";

/** One control for all proposals of speed, feed and steps. */
function Boldness({ value, onSave }: { value: number; onSave: (v: number) => void }) {
  const [shown, show] = useState<number | null>(null);
  const at = Math.round((shown ?? value) * 100);
  return (
    <div className="boldness">
      <Labelled
        label="Proposals"
        origin={at === 50 ? "in the middle" : at < 50 ? "cautious" : "bold"}
        why="Speed, feed, stepover and depth that are not given follow this together; what is given stays."
      />
      <Slider
        size="sm"
        step={25}
        label={null}
        value={at}
        thumbLabel="Proposals from cautious to bold"
        marks={[{ value: 0, label: "cautious" }, { value: 50 }, { value: 100, label: "bold" }]}
        onChange={(v) => show(v / 100)}
        onChangeEnd={(v) => {
          show(null);
          onSave(v / 100);
        }}
      />
    </div>
  );
}

const shownFeed = (feed: number, units: "mm" | "inch") =>
  units === "inch" ? (feed / INCH).toFixed(1) : feed.toFixed(0);

/** Speed, feeds and what they follow, proposed or given. */
export function Feeds({ doc, edit, derived }: Part & { derived: Record<string, Derived> }) {
  const { document, library } = useShared();
  const { setup } = useChosen("setup");
  const mill = machinesOf(document, library).find((m) => m.id === document.setups[setup]?.machine);
  const why = (key: string) => ({ origin: derived[key]?.origin, why: derived[key]?.formula });
  return (
    <>
      <Boldness value={doc.boldness ?? 0.5} onSave={(v) => edit((o) => void (o.boldness = v))} />
      <PlainField
        label="Spindle speed"
        suffix="1/min"
        placeholder={derived.spindle_rpm?.value.toFixed(0) ?? ""}
        value={doc.spindle_rpm ?? null}
        error={beyond(doc.spindle_rpm ?? null, mill)}
        {...why("spindle_rpm")}
        onSave={(v) => edit((o) => void (o.spindle_rpm = v))}
      />
      {(["feed_mm_min", "entry_feed_mm_min"] as const).map((key) => (
        <LengthField
          key={key}
          label={key === "feed_mm_min" ? "Feed" : "Entry feed"}
          units={document.units}
          suffix={document.units === "inch" ? "in/min" : "mm/min"}
          placeholder={derived[key] ? shownFeed(derived[key].value, document.units) : ""}
          value={doc[key] ?? null}
          {...why(key)}
          onSave={(v) => edit((o) => void (o[key] = v))}
        />
      ))}
      <div className="two">
        <ChoiceField
          label="Spindle"
          value={doc.spindle}
          data={[
            { value: "clockwise", label: "clockwise" },
            { value: "counter_clockwise", label: "counter-clockwise" },
          ]}
          onSave={(v) => edit((o) => void (o.spindle = v as Operation["spindle"]))}
        />
        <ChoiceField
          label="Coolant"
          value={doc.coolant}
          data={["off", "flood", "mist"].map((v) => ({ value: v, label: v }))}
          onSave={(v) => edit((o) => void (o.coolant = v as Operation["coolant"]))}
        />
      </div>
      <ChoiceField
        label="Feed follows"
        value={doc.feed_follows ?? "plan"}
        data={[
          { value: "plan", label: "the plan: one feed" },
          { value: "engagement", label: "the measured engagement" },
        ]}
        onSave={(v) => edit((o) => void (o.feed_follows = v as Operation["feed_follows"]))}
      />
      <ChoiceField
        label="Where shank or holder would touch"
        value={doc.when_short ?? "trim"}
        data={[
          { value: "trim", label: "leave these moves out" },
          { value: "raise", label: "lift the tool" },
          { value: "leave", label: "keep as it is" },
        ]}
        onSave={(v) => edit((o) => void (o.when_short = v as Operation["when_short"]))}
      />
    </>
  );
}
