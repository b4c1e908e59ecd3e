import { Button, FileButton } from "@mantine/core";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { Setup } from "../../api/types";
import {
  ChoiceField,
  Follows,
  LengthField,
  NameField,
  PlainField,
  shownLength,
  SwitchField,
} from "../../forms/fields";
import { useShared } from "../bench/context";
import { useBench } from "../bench/store";
import { Working } from "../bench/Working";

const AXES = ["+x", "-x", "+y", "-y", "+z", "-z"];
const SIDES = [
  ["x_low", "−X"],
  ["x_high", "+X"],
  ["y_low", "−Y"],
  ["y_high", "+Y"],
  ["z_low", "below"],
  ["z_high", "above"],
];

/** How a setup's state is shown: one that waits for the setup before is no fault. */
const STATES: Record<string, string> = { ready: "ready", wrong: "wrong", waits: "stale", stale: "stale" };

function fresh(before: Setup[]): Setup {
  const count = before.length;
  const last = before[count - 1];
  const next: Partial<Setup> = last && {
    up: { axis: opposite(last.up.axis), face: null, reverse: false },
    machine: last.machine,
    material: last.material,
    ...(last.array ? {} : { stock: { kind: "carried" as const, setup: last.name } }),
  };
  let name = count === 0 ? "Top" : `Setup ${count + 1}`;
  for (let n = count + 2; before.some((s) => s.name === name); n++) name = `Setup ${n}`;
  return {
    name,
    up: { axis: "+z", face: null, reverse: false },
    turn_deg: 0,
    machine: "column_mill_500",
    material: "aluminium_wrought",
    stock: { kind: "box", allowance: { x_low: 2, x_high: 2, y_low: 2, y_high: 2, z_low: 0, z_high: 1 } },
    zero: { of: "stock", x: "middle", y: "middle", z: "high", point: null },
    work_offset: `G${54 + Math.min(count, 5)}`,
    placement: { x: 0, y: 0, z: 60 },
    operations: [],
    ...next,
  };
}

/** The other side of the part: what follows a setup is mostly made turned over. */
function opposite(axis: string | null): string {
  return axis ? (axis.startsWith("-") ? "+" : "-") + axis.slice(1) : "-z";
}

/** The setups of the job, one row each. */
export function SetupSheet() {
  const { document, state, editing, library } = useShared();
  const { setup, set } = useBench();
  const chosen = Math.min(setup, document.setups.length - 1);
  const facts = state?.setups[chosen];
  return (
    <>
      <h2>Setups</h2>
      {document.setups.length === 0 ? (
        <p>No setup yet: add one to say which way is up, in which stock, on which machine.</p>
      ) : (
        <table className="plan" aria-label="Setups">
          <thead>
            <tr>
              <th>No.</th>
              <th>Setup</th>
              <th>Machine</th>
              <th>Offset</th>
              <th>State</th>
            </tr>
          </thead>
          <tbody>
            {document.setups.map((s, i) => (
              <tr
                key={s.name}
                className={i === chosen ? "chosen" : ""}
                onClick={() => set({ setup: i, operation: null })}
              >
                <td>{i + 1}</td>
                <td>{s.name}</td>
                <td>{library.machines.find((m) => m.id === s.machine)?.name ?? s.machine}</td>
                <td>{s.work_offset}</td>
                <td>
                  <span className={`state ${STATES[state?.setups[i]?.state ?? "stale"]}`}>
                    {state?.setups[i]?.state ?? "ready"}
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div style={{ display: "flex", gap: 8, margin: "12px 0" }}>
        <Button
          disabled={!document.part}
          onClick={() => {
            editing.edit((d) => void d.setups.push(fresh(d.setups)));
            set({ setup: document.setups.length });
          }}
        >
          Add a setup
        </Button>
        {document.setups.length > 0 && (
          <Button
            variant="subtle"
            color="gray"
            onClick={() =>
              editing.edit((d) => {
                const gone = d.setups.splice(chosen, 1)[0];
                d.releases = d.releases.filter((r) => r.setup !== gone.name);
                for (const s of d.setups)
                  if (s.stock.kind === "carried" && s.stock.setup === gone.name) s.stock = boxStock();
              })
            }
          >
            Remove
          </Button>
        )}
      </div>
      {!document.part && <p className="small">First give the job a part (station 1).</p>}
      {facts?.error && (
        <div className={facts.state === "waits" ? "problem" : "problem wrong"} role="alert">
          {facts.error.what} {facts.error.remedy}
        </div>
      )}
      {facts?.state === "waits" && <Working target="plan" label="Compute the plan" />}
      {facts?.stock && <SetupFacts index={chosen} />}
    </>
  );
}

function SetupFacts({ index }: { index: number }) {
  const { document, state, library } = useShared();
  const facts = state!.setups[index];
  const machine = library.machines.find((m) => m.id === document.setups[index].machine);
  const u = document.units;
  const { min, max } = facts.stock!;
  const size = max.map((v, i) => shownLength(v - min[i], u)).join(" x ");
  return (
    <>
      <h3>What follows</h3>
      {facts.moved && <Follows label="The part" value={facts.moved} />}
      {facts.copies && facts.copies.length > 1 && (
        <Follows label="Parts in the blank" value={String(facts.copies.length)} />
      )}
      <Follows label="Stock" value={size} />
      {["X", "Y", "Z"].map((axis, i) => (
        <Follows
          key={axis}
          label={`Stock along ${axis}`}
          value={`${shownLength(min[i], u)} to ${shownLength(max[i], u)}`}
        />
      ))}
      <Follows
        label="Zero over the table"
        value={facts.table_from_setup!.map((v) => shownLength(v, u)).join(", ")}
      />
      {machine && (
        <Follows
          label="Travels of the machine"
          value={[machine.x, machine.y, machine.z].map(([a, b]) => shownLength(b - a, u)).join(" x ")}
        />
      )}
    </>
  );
}

export function SetupCard() {
  const { document, editing, library, faces } = useShared();
  const { setup: index } = useBench();
  const i = Math.min(index, document.setups.length - 1);
  const setup = document.setups[i];
  if (!setup) return <p className="small">A setup's settings stand here.</p>;
  const edit = (work: (s: Setup) => void) => editing.edit((d) => work(d.setups[i]));
  const rename = (name: string) =>
    editing.edit((d) => {
      const old = d.setups[i].name;
      for (const r of d.releases) if (r.setup === old) r.setup = name;
      for (const s of d.setups) if (s.stock.kind === "carried" && s.stock.setup === old) s.stock.setup = name;
      d.setups[i].name = name;
    });
  const up = setup.up.face ? `face ${setup.up.face}` : setup.up.axis!;
  return (
    <>
      <h2>{setup.name}</h2>
      <NameField label="Name" value={setup.name} onSave={rename} />
      <h3>Up</h3>
      <ChoiceField
        label="Up direction"
        value={up}
        data={[...AXES, ...(setup.up.face ? [up] : [])].map((a) => ({
          value: a,
          label: a.replace("face", "Face"),
        }))}
        onSave={(v) => edit((s) => void (s.up = { axis: v, face: null, reverse: false }))}
        help={
          setup.up.face
            ? `${faces[setup.up.face - 1]?.kind ?? "face"} picked in the view`
            : "or click a face or bore in the view"
        }
      />
      <div className="two" style={{ alignItems: "end", marginTop: 6 }}>
        <PlainField
          label="Turn about up"
          suffix="°"
          value={setup.turn_deg}
          onSave={(v) => edit((s) => void (s.turn_deg = v ?? 0))}
        />
        <SwitchField
          label="Turned over"
          value={setup.up.reverse}
          onSave={(v) => edit((s) => void (s.up = { ...s.up, reverse: v }))}
        />
      </div>
      <h3>Machine and material</h3>
      <ChoiceField
        label="Machine"
        value={setup.machine}
        data={library.machines.map((m) => ({ value: m.id, label: m.name }))}
        onSave={(v) => edit((s) => void (s.machine = v))}
      />
      <ChoiceField
        label="Material"
        value={setup.material}
        data={library.materials.map((m) => ({ value: m.id, label: `${m.group}  ${m.name}` }))}
        onSave={(v) => edit((s) => void (s.material = v))}
      />
      <h3>Stock</h3>
      <StockFields setup={setup} edit={edit} />
      <ArrayFields setup={setup} edit={edit} />
      <h3>Program zero</h3>
      <ZeroFields setup={setup} edit={edit} />
      <ChoiceField
        label="Work offset"
        value={setup.work_offset}
        data={[54, 55, 56, 57, 58, 59].map((n) => ({ value: `G${n}`, label: `G${n}` }))}
        onSave={(v) => edit((s) => void (s.work_offset = v))}
      />
      <h3>Place on the table</h3>
      <div className="points">
        {(["x", "y", "z"] as const).map((axis) => (
          <LengthField
            key={axis}
            label={axis === "z" ? "Height" : axis.toUpperCase()}
            units={document.units}
            value={setup.placement[axis]}
            onSave={(v) => edit((s) => void (s.placement[axis] = v ?? 0))}
          />
        ))}
      </div>
    </>
  );
}

interface FieldProps {
  setup: Setup;
  edit: (work: (s: Setup) => void) => Promise<boolean>;
}

const boxStock = () => ({
  kind: "box" as const,
  allowance: { x_low: 2, x_high: 2, y_low: 2, y_high: 2, z_low: 0, z_high: 1 },
});

function StockFields({ setup, edit }: FieldProps) {
  const { id, document, editing } = useShared();
  const take = async (file: File | null) => {
    if (!file) return;
    const body = new FormData();
    body.append("file", file);
    try {
      const name = await send<string>("POST", `/jobs/${id}/files`, body);
      if (await edit((s) => void (s.stock = { kind: "solid", file: name }))) editing.start("part");
    } catch (error) {
      tell(error);
    }
  };
  const earlier = document.setups.slice(
    0,
    document.setups.findIndex((s) => s.name === setup.name),
  );
  const left = (name: string) => `left:${name}`;
  const { kind } = setup.stock;
  const value = kind === "carried" ? left(setup.stock.setup!) : kind;
  const choose = (v: string) =>
    edit((s) => {
      if (v === "box") s.stock = boxStock();
      else if (v.startsWith("left:")) s.stock = { kind: "carried", setup: v.slice(5) };
    });
  return (
    <>
      <ChoiceField
        label="Begins as"
        value={value}
        data={[
          { value: "box", label: "A box around the part" },
          ...earlier
            .filter((s) => !s.array)
            .map((s) => ({ value: left(s.name), label: `What “${s.name}” leaves` })),
          ...(kind === "solid" ? [{ value: "solid", label: `Solid from ${setup.stock.file}` }] : []),
        ]}
        onSave={choose}
      />
      {kind === "box" && (
        <div className="two">
          {SIDES.map(([key, label]) => (
            <LengthField
              key={key}
              label={`Allowance ${label}`}
              units={document.units}
              value={setup.stock.allowance?.[key] ?? 0}
              onSave={(v) => edit((s) => void (s.stock.allowance![key] = v ?? 0))}
            />
          ))}
        </div>
      )}
      <FileButton onChange={take}>
        {(props) => (
          <Button variant="subtle" size="compact-xs" mt={6} {...props}>
            Take a solid from a file
          </Button>
        )}
      </FileButton>
    </>
  );
}

/** How many parts are made in one blank, and how far apart they lie. */
function ArrayFields({ setup, edit }: FieldProps) {
  const { document } = useShared();
  const array = setup.array ?? { columns: 1, rows: 1, gap_x: 10, gap_y: 10 };
  const put = (values: Partial<typeof array>) =>
    edit((s) => {
      const next = { ...array, ...values };
      s.array = next.columns * next.rows > 1 ? next : null;
    });
  const sides = [
    ["columns", "gap_x", "along X"],
    ["rows", "gap_y", "along Y"],
  ] as const;
  return (
    <>
      <h3>Parts in the blank</h3>
      <div className="two">
        {sides.map(([count, , words]) => (
          <PlainField
            key={count}
            label={`Parts ${words}`}
            suffix="×"
            value={array[count]}
            onSave={(v) => put({ [count]: Math.max(1, Math.round(v ?? 1)) })}
          />
        ))}
        {sides.map(
          ([count, gap, words]) =>
            array[count] > 1 && (
              <LengthField
                key={gap}
                label={`Gap ${words}`}
                units={document.units}
                value={array[gap]}
                onSave={(v) => put({ [gap]: v ?? 0 })}
              />
            ),
        )}
      </div>
    </>
  );
}

function ZeroFields({ setup, edit }: FieldProps) {
  const zero = setup.zero;
  const put = (values: Partial<Setup["zero"]>) =>
    edit((s) => void (s.zero = { ...s.zero, point: null, ...values }));
  const of = zero.of === "point" ? "stock" : zero.of;
  return (
    <>
      <ChoiceField
        label="Zero on"
        value={zero.of}
        data={[
          { value: "stock", label: "the stock's box" },
          { value: "part", label: "the part's box" },
          ...(zero.of === "point" ? [{ value: "point", label: "a picked point" }] : []),
        ]}
        onSave={(v) => v !== "point" && put({ of: v as "stock" | "part" })}
        help={zero.point ? zero.point.map((v) => v.toFixed(3)).join(", ") + " of the part" : undefined}
      />
      <div style={{ margin: "8px 0" }}>
        <div className="points" role="group" aria-label="Height of zero" style={{ marginBottom: 5 }}>
          {(["high", "middle", "low"] as const).map((z) => (
            <button key={z} aria-pressed={zero.of !== "point" && zero.z === z} onClick={() => put({ of, z })}>
              {z === "high" ? "top" : z === "low" ? "bottom" : "middle"}
            </button>
          ))}
        </div>
        <div className="points" role="group" aria-label="Zero seen from above">
          {(["high", "middle", "low"] as const).flatMap((y) =>
            (["low", "middle", "high"] as const).map((x) => (
              <button
                key={x + y}
                aria-label={`X ${x}, Y ${y}`}
                aria-pressed={zero.of !== "point" && zero.x === x && zero.y === y}
                onClick={() => put({ of, x, y })}
              >
                {{ low: "−X", middle: "·", high: "+X" }[x]} {{ low: "−Y", middle: "·", high: "+Y" }[y]}
              </button>
            )),
          )}
        </div>
      </div>
    </>
  );
}
