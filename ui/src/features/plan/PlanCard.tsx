import { Button, Slider, Textarea } from "@mantine/core";
import { useState } from "react";
import { useValues, useWaysUp } from "../../api/hooks";
import { followsFaces, isRound } from "../../api/traits";
import type { Derived, Height, Operation, OperationValues, StrategyInfo } from "../../api/types";
import {
  ChoiceField,
  Follows,
  INCH,
  Labelled,
  LengthField,
  NameField,
  PlainField,
  shownLength,
  SwitchField,
} from "../../forms/fields";
import { ParameterForm, sentence, shown } from "../../forms/ParameterForm";
import { beyond, isArm, machinesOf } from "../../session/machines";
import { clock, useShared } from "../../session/context";
import { FaceChoice } from "../../picks/FaceChoice";
import { HoleChoice } from "../../picks/Holes";
import { LineChoice } from "../../picks/Lines";
import { WallChoice } from "../../picks/Walls";
import { useChosen } from "../../session/store";
import { ArmFields } from "./ArmFields";
import { Borders } from "./Areas";
import { estimated } from "./estimate";
import { duplicated, removed, renamed } from "./operations";
import { RepeatFields } from "./Repeats";

/** The setup's own direction among its sides. */
const ABOVE = "";

/** What is decided for the selected operation, what follows, and the rest. */
export function PlanCard() {
  const { id, document, revision, library, editing } = useShared();
  const { setup, operation, set } = useChosen("setup", "operation", "set");
  const doc = operation !== null ? document.setups[setup]?.operations[operation] : undefined;
  const values = useValues(id, revision, setup, doc ? operation : null).data;
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

interface Part {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}

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

function Feeds({ doc, edit, derived }: Part & { derived: Record<string, Derived> }) {
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

interface Follow {
  doc: Operation;
  values: OperationValues;
  strategy: StrategyInfo;
}

function Consequences({ doc, values, strategy }: Follow) {
  const { id, document, state, faces } = useShared();
  const { setup } = useChosen("setup");
  const ways = useWaysUp(id, state?.part.state === "ready" ? state.part.key : undefined).data;
  const tool = document.tools.find((t) => t.number === doc.tool);
  if (!tool) return null;
  const rpm = values.derived.spindle_rpm.value;
  const feed = values.derived.feed_mm_min.value;
  const units = document.units;
  const length = units === "inch" ? "in" : "mm";
  const up = state?.setups[setup]?.setup_from_part?.[2]?.slice(0, 3) ?? [0, 0, 1];
  const from = document.setups[setup].up;
  const reached = ways?.find((w) => w.axis === from.axis && w.face === from.face)?.faces ?? [];
  const passes = strategy.finishes ? estimated(doc, values.parameters, tool, feed, faces, reached, up) : null;
  const perTooth = feed / (rpm * tool.teeth);
  const counts = (k: string) =>
    shown(strategy.parameters.properties[k], { given: doc.parameters, resolved: values.parameters });
  const rows = Object.entries(values.derived).filter(
    ([k]) =>
      ["stepover", "step_down"].includes(k) &&
      k in values.parameters &&
      counts(k) &&
      !(passes && k === "stepover"),
  );
  return (
    <>
      <Follows
        label="Cutting speed"
        value={`${((Math.PI * tool.diameter * rpm) / 1000).toFixed(1)} m/min`}
        why={`π D n / 1000 = π · ${tool.diameter} · ${rpm} / 1000`}
      />
      <Follows
        label="Feed per tooth"
        value={`${perTooth.toFixed(4)} mm`}
        why={`vf / (n z) = ${feed} / (${rpm} · ${tool.teeth})`}
      />
      {passes && (
        <>
          <Follows
            label="Stepover"
            value={`${shownLength(passes.stepover, units)} ${length}`}
            why="2 √(2 R c − c²) of the corner's radius and the cusp, or as given"
          />
          <Follows label="Passes, about" value={String(passes.passes)} />
          <Follows
            label="Time in cut, about"
            value={clock(60 * passes.minutes)}
            why={`${(passes.area / 100).toFixed(1)} cm² over the stepover is ${(passes.length / 1000).toFixed(1)} m of passes, at the feed. Before anything is computed; the proof tells the time.`}
          />
        </>
      )}
      {rows.map(([key, d]) => (
        <Follows
          key={key}
          label={`${sentence(key)} (${d.origin})`}
          value={`${Number(values.parameters[key]).toFixed(3)} ${d.unit}`}
          why={d.formula}
        />
      ))}
    </>
  );
}

const REFERENCES = [
  { value: "stock_top", label: "over stock top" },
  { value: "stock_bottom", label: "over stock bottom" },
  { value: "part_top", label: "over part top" },
  { value: "part_bottom", label: "over part bottom" },
  { value: "zero", label: "over zero" },
];

function HeightFields({ doc, edit }: Part) {
  const { document } = useShared();
  return (
    <>
      {(["clearance", "retract", "bottom"] as const).map((key) => (
        <div className="two" key={key}>
          <LengthField
            label={sentence(key)}
            units={document.units}
            value={doc.heights[key].offset}
            onSave={(v) => edit((o) => void (o.heights[key].offset = v ?? 0))}
          />
          <ChoiceField
            label={`${sentence(key)} from`}
            value={doc.heights[key].over}
            data={REFERENCES}
            onSave={(v) => edit((o) => void (o.heights[key].over = v as Height["over"]))}
          />
        </div>
      ))}
      <LengthField
        label="Feed height over stock"
        units={document.units}
        value={doc.heights.feed}
        onSave={(v) => edit((o) => void (o.heights.feed = v ?? 1))}
      />
      <LengthField
        label="Tolerance"
        units={document.units}
        value={doc.tolerance_mm}
        onSave={(v) => edit((o) => void (o.tolerance_mm = v ?? 0.01))}
      />
    </>
  );
}
