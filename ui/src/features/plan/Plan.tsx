import { Button, Select, Slider } from "@mantine/core";
import { useState } from "react";
import type { Boundary, Height, Operation, Tool } from "../../api/types";
import {
  ChoiceField,
  Follows,
  Labelled,
  LengthField,
  NameField,
  PlainField,
  SwitchField,
} from "../../forms/fields";
import { ParameterForm, sentence } from "../../forms/ParameterForm";
import { useShared } from "../bench/context";
import { HoleChoice, HoleRecipe, WholePlan } from "../bench/Holes";
import { WallChoice } from "../bench/Walls";
import { useBench } from "../bench/store";
import { Working } from "../bench/Working";

const over = (reference: Height["over"], offset: number): Height => ({ over: reference, offset });

function fresh(name: string, strategy: string, tool: number): Operation {
  return {
    name,
    strategy,
    tool,
    enabled: true,
    spindle_rpm: null,
    spindle: "clockwise",
    feed_mm_min: null,
    entry_feed_mm_min: null,
    coolant: "flood",
    feed_follows: "plan",
    when_short: "trim",
    tolerance_mm: 0.01,
    heights: {
      clearance: over("stock_top", 10),
      retract: over("stock_top", 2),
      feed: 1,
      bottom: over("part_bottom", 0),
    },
    keep_in: [],
    keep_out: [],
    parameters: {},
    notes: "",
  };
}

/** The library's first tool of the kinds that a strategy works with, with a number that is free in the job. */
function fromLibrary(mine: Tool[], shelf: Tool[], kinds: Tool["kind"][]): Tool {
  const found = shelf.find((t) => kinds.includes(t.kind));
  if (!found) return mine[0];
  const taken = new Set(mine.map((t) => t.number));
  let number = found.number;
  while (taken.has(number)) number++;
  return { ...found, number };
}

/** The operation sheet: every setup with its operations in machining order. */
export function PlanSheet() {
  const { document, library, editing } = useShared();
  const { setup, set } = useBench();
  const add = (strategy: string) => {
    const info = library.strategies.find((s) => s.id === strategy)!;
    const chosen = document.setups[setup] ?? document.setups[0];
    const taken = new Set(chosen.operations.map((o) => o.name));
    let name = info.title;
    for (let n = 2; taken.has(name); n++) name = `${info.title} ${n}`;
    const index = document.setups.indexOf(chosen);
    const fitting = document.tools.filter((t) => info.kinds.includes(t.kind));
    const ball = fitting.find((t) => t.kind === "ball" || t.kind === "taper_ball");
    const flat = fitting.find((t) => t.kind === "flat" || t.kind === "corner");
    const wanted = strategy.includes("finishing") ? (ball ?? flat) : (flat ?? ball);
    const own = info.needs_holes ? fitting.find((t) => t.kind === info.kinds[0]) : undefined;
    const tool = own ?? wanted ?? fitting[0] ?? fromLibrary(document.tools, library.tools, info.kinds);
    editing.edit((d) => {
      if (!d.tools.some((t) => t.number === tool.number)) d.tools.push(structuredClone(tool));
      d.setups[index].operations.push(fresh(name, strategy, tool.number));
    });
    set({ setup: index, operation: chosen.operations.length });
  };
  if (document.setups.length === 0) return <p>First add a setup (station 2).</p>;
  return (
    <>
      <h2>Plan</h2>
      {document.setups.map((s, i) => (
        <SetupPlan key={s.name} index={i} />
      ))}
      {document.tools.length === 0 ? (
        <p>First take a tool from the library (station 3), or let a recipe bring its own.</p>
      ) : (
        <Select
          mt={12}
          label="Add an operation"
          placeholder={document.setups[setup]?.operations.length ? "" : "Choose how to cut, roughing first"}
          data={library.strategies.map((s) => ({ value: s.id, label: s.title }))}
          value={null}
          onChange={(v) => v && add(v)}
        />
      )}
      <WholePlan />
      <HoleRecipe />
      <div style={{ marginTop: 14 }}>
        <Working
          target="plan"
          label="Compute the plan"
          disabled={!document.setups.some((s) => s.operations.some((o) => o.enabled))}
        />
      </div>
    </>
  );
}

function SetupPlan({ index }: { index: number }) {
  const { document, state, editing } = useShared();
  const { setup, operation, set } = useBench();
  const doc = document.setups[index];
  const move = (from: number, to: number) => {
    if (to < 0 || to >= doc.operations.length) return;
    editing.edit((d) => {
      const list = d.setups[index].operations;
      list.splice(to, 0, ...list.splice(from, 1));
    });
    set({ operation: to });
  };
  return (
    <table className="plan" aria-label={`Operations of ${doc.name}`}>
      <caption style={{ textAlign: "left", fontWeight: 600, padding: "6px 0 3px" }}>
        {index + 1}. {doc.name}, {doc.work_offset}
      </caption>
      <thead>
        <tr>
          <th>No.</th>
          <th>Operation</th>
          <th>Tool</th>
          <th className="num">Speed</th>
          <th className="num">Feed</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        {doc.operations.map((o, k) => {
          const facts = state?.setups[index]?.operations[k];
          const chosen = setup === index && operation === k;
          return (
            <tr
              key={o.name}
              className={`${chosen ? "chosen" : ""} ${o.enabled ? "" : "off"}`}
              draggable
              onDragStart={(e) => e.dataTransfer.setData("text/plain", String(k))}
              onDragOver={(e) => e.preventDefault()}
              onDrop={(e) => move(Number(e.dataTransfer.getData("text/plain")), k)}
              onClick={() => set({ setup: index, operation: k })}
              onKeyDown={(e) => {
                if (e.altKey && e.key === "ArrowUp") move(k, k - 1);
                if (e.altKey && e.key === "ArrowDown") move(k, k + 1);
                if (e.key === "Enter") set({ setup: index, operation: k });
              }}
              tabIndex={0}
              aria-selected={chosen}
            >
              <td>
                {index + 1}.{k + 1}
              </td>
              <td>{o.name}</td>
              <td>T{o.tool}</td>
              <td className="num">{facts?.derived.spindle_rpm?.value.toFixed(0)}</td>
              <td className="num">{facts?.derived.feed_mm_min?.value.toFixed(0)}</td>
              <td>
                <span className={`state ${o.enabled ? (facts?.state ?? "stale") : ""}`}>
                  {o.enabled ? (facts?.state ?? "stale") : "off"}
                </span>
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** What is decided for the selected operation, what follows, and the rest. */
export function PlanCard() {
  const { document, state, library, editing } = useShared();
  const { setup, operation, set } = useBench();
  const doc = operation !== null ? document.setups[setup]?.operations[operation] : undefined;
  const facts = operation !== null ? state?.setups[setup]?.operations[operation] : undefined;
  if (!doc || operation === null)
    return <p className="small">Choose an operation on the sheet, or add one.</p>;
  const strategy = library.strategies.find((s) => s.id === doc.strategy)!;
  const edit = (work: (o: Operation) => void) =>
    editing.edit((d) => work(d.setups[setup].operations[operation]));
  const derived = facts?.derived ?? {};
  const rename = (name: string) =>
    editing.edit((d) => {
      const own = d.setups[setup];
      for (const r of d.releases) {
        if (r.setup === own.name)
          r.operations = r.operations?.map((n) => (n === doc.name ? name : n)) ?? null;
      }
      own.operations[operation].name = name;
    });
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
      {strategy.needs_holes && (
        <>
          <h3>Holes</h3>
          <HoleChoice doc={doc} edit={edit} />
        </>
      )}
      {strategy.needs_walls && (
        <>
          <h3>{strategy.needs_rims ? "Edges" : "Walls"}</h3>
          <WallChoice doc={doc} edit={edit} edges={strategy.needs_rims} />
        </>
      )}
      <h3>Decide</h3>
      <ParameterForm
        strategy={strategy}
        given={doc.parameters}
        resolved={facts?.parameters ?? {}}
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
      <Feeds doc={doc} edit={edit} />
      <h3>What follows</h3>
      <Consequences index={setup} operation={operation} />
      {!strategy.needs_holes && (
        <>
          <h3>Keep in, keep out</h3>
          <Borders doc={doc} edit={edit} />
        </>
      )}
      <h3>Heights</h3>
      <HeightFields doc={doc} edit={edit} />
      <h3>Operation</h3>
      <SwitchField
        label="Switched on"
        value={doc.enabled}
        onSave={(v) => edit((o) => void (o.enabled = v))}
      />
      <div style={{ display: "flex", gap: 6, marginTop: 8 }}>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() =>
            editing.edit((d) => {
              const copy = structuredClone(doc);
              const taken = new Set(d.setups[setup].operations.map((o) => o.name));
              for (let n = 2; taken.has(copy.name); n++) copy.name = `${doc.name} ${n}`;
              d.setups[setup].operations.splice(operation + 1, 0, copy);
            })
          }
        >
          Copy
        </Button>
        <Button
          size="compact-xs"
          variant="subtle"
          color="gray"
          onClick={() => {
            editing.edit((d) => {
              const gone = d.setups[setup].operations.splice(operation, 1)[0];
              for (const r of d.releases) r.operations = r.operations?.filter((n) => n !== gone.name) ?? null;
            });
            set({ operation: null });
          }}
        >
          Remove
        </Button>
      </div>
    </>
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

function Feeds({ doc, edit }: Part) {
  const { state, document } = useShared();
  const { setup, operation } = useBench();
  const derived = state?.setups[setup]?.operations[operation!]?.derived ?? {};
  const why = (key: string) => ({ origin: derived[key]?.origin, why: derived[key]?.formula });
  return (
    <>
      <Boldness value={doc.boldness ?? 0.5} onSave={(v) => edit((o) => void (o.boldness = v))} />
      <PlainField
        label="Spindle speed"
        suffix="1/min"
        placeholder={derived.spindle_rpm?.value.toFixed(0) ?? ""}
        value={doc.spindle_rpm}
        {...why("spindle_rpm")}
        onSave={(v) => edit((o) => void (o.spindle_rpm = v))}
      />
      {(["feed_mm_min", "entry_feed_mm_min"] as const).map((key) => (
        <LengthField
          key={key}
          label={key === "feed_mm_min" ? "Feed" : "Entry feed"}
          units={document.units}
          suffix={document.units === "inch" ? "in/min" : "mm/min"}
          placeholder={derived[key]?.value.toFixed(0) ?? ""}
          value={doc[key]}
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

function Consequences({ index, operation }: { index: number; operation: number }) {
  const { state, document } = useShared();
  const facts = state?.setups[index]?.operations[operation];
  const doc = document.setups[index].operations[operation];
  const tool = document.tools.find((t) => t.number === doc.tool);
  if (!facts || !tool) return null;
  const rpm = facts.derived.spindle_rpm.value;
  const feed = facts.derived.feed_mm_min.value;
  const perTooth = feed / (rpm * tool.teeth);
  const rows = Object.entries(facts.derived).filter(
    ([k]) => ["stepover", "step_down"].includes(k) && k in facts.parameters,
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
      {rows.map(([key, d]) => (
        <Follows
          key={key}
          label={`${sentence(key)} (${d.origin})`}
          value={`${Number(facts.parameters[key]).toFixed(3)} ${d.unit}`}
          why={d.formula}
        />
      ))}
    </>
  );
}

function Borders({ doc, edit }: Part) {
  const { document } = useShared();
  const stock: Boundary = { faces: null, stock: true, polygon: null, offset: 0 };
  const words = (b: Boundary) =>
    b.stock
      ? "the stock's outline"
      : b.faces
        ? `face${b.faces.length > 1 ? "s" : ""} ${b.faces.join(", ")}`
        : "a polygon";
  return (
    <>
      {(["keep_in", "keep_out"] as const).flatMap((key) =>
        doc[key].map((b, i) => (
          <div key={key + i} className="two" style={{ alignItems: "end" }}>
            <LengthField
              label={`${key === "keep_in" ? "In" : "Out"}: ${words(b)}, moved by`}
              units={document.units}
              value={b.offset}
              onSave={(v) => edit((o) => void (o[key][i].offset = v ?? 0))}
            />
            <Button
              size="compact-xs"
              variant="subtle"
              color="gray"
              onClick={() => edit((o) => void o[key].splice(i, 1))}
            >
              Remove
            </Button>
          </div>
        )),
      )}
      <p className="small" style={{ margin: "4px 0" }}>
        Click faces in the view (Shift for several) to keep the tool in or out.
      </p>
      <Button size="compact-xs" variant="subtle" onClick={() => edit((o) => void o.keep_in.push(stock))}>
        Keep in the stock's outline
      </Button>
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
