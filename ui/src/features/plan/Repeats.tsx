import { Button, Textarea } from "@mantine/core";
import { useState } from "react";
import type { How, Machine, Repeat, Vec3 } from "../../api/types";
import { ChoiceField, LengthField, NameField, PlainField, TextField } from "../../forms/fields";
import { rowsOf, textOf, wrongRow } from "../../forms/lines";
import { inChain } from "../../scene/chain";
import { heldJoints, machinesOf } from "../../session/machines";
import { useShared } from "../../session/context";
import { HOW_WORDS, repeated, repeatOf } from "./operations";

const FRESH: Record<How["kind"], How> = {
  polar: { kind: "polar", centre: [0, 0], count: 4, step_deg: null },
  linear: { kind: "linear", count: 2, step: [10, 0] },
  grid: { kind: "grid", columns: 2, rows: 2, step_x: 10, step_y: 10, angle_deg: 0 },
  listed: { kind: "listed", at: [[10, 0, 0]] },
  mirror: { kind: "mirror", point: [0, 0], angle_deg: 90 },
  rotary: { kind: "rotary", joint: "C", count: 4, step_deg: null },
};

const letterOf = (machine: Machine, name: string | undefined) =>
  machine.joints.find((j) => j.name === name)?.letter;

/** The repeat that an operation belongs to: its places, and who else is made there. */
export function RepeatFields({ setup, name }: { setup: number; name: string }) {
  const { document, editing, library } = useShared();
  const own = document.setups[setup];
  const repeat = repeatOf(own, name);
  const edit = (work: (r: Repeat) => void) =>
    editing.edit((d) => {
      const mine = d.setups[setup].repeats?.find((r) => r.name === repeat?.name);
      if (mine) work(mine);
    });
  if (!repeat) {
    return (
      <Button
        mt={10}
        size="compact-xs"
        variant="subtle"
        onClick={() => editing.edit((d) => repeated(d, setup, [name]))}
      >
        Repeat at other places
      </Button>
    );
  }
  const others = repeat.operations.filter((n) => n !== name);
  // the joint that carries the work is the one that can be turned on
  const machine = machinesOf(document, library).find((m) => m.id === own.machine);
  const carrying = machine && heldJoints(machine).find((l) => letterOf(machine, inChain(machine)[0]) === l);
  return (
    <>
      <h3>Repeat</h3>
      <NameField
        label="Name of the repeat"
        value={repeat.name}
        onSave={(v) => edit((r) => void (r.name = v))}
      />
      {others.length > 0 && <p className="small">Together with {others.join(", ")}.</p>}
      <ChoiceField
        label="Places"
        value={repeat.how.kind}
        data={Object.entries(HOW_WORDS).map(([value, label]) => ({ value, label }))}
        onSave={(v) =>
          edit((r) => {
            r.how = structuredClone(FRESH[v as How["kind"]]);
            if (r.how.kind === "rotary" && carrying) r.how.joint = carrying;
            r.leave_out = [];
          })
        }
      />
      <HowFields how={repeat.how} put={(how) => edit((r) => void (r.how = how))} />
      <TextField
        label="Places left out, by number"
        value={repeat.leave_out.join(", ") || null}
        onSave={(v) =>
          edit((r) => {
            const numbers = (v ?? "")
              .split(/[\s,;]+/)
              .filter(Boolean)
              .map(Number);
            r.leave_out = numbers.filter((n) => Number.isInteger(n) && n > 0);
          })
        }
      />
      <Button
        mt={6}
        size="compact-xs"
        variant="subtle"
        color="gray"
        onClick={() =>
          editing.edit((d) => {
            const s = d.setups[setup];
            s.repeats = s.repeats?.filter((r) => r.name !== repeat.name);
          })
        }
      >
        Make once only
      </Button>
    </>
  );
}

function HowFields({ how, put }: { how: How; put: (how: How) => void }) {
  const { document } = useShared();
  const u = document.units;
  const length = (label: string, value: number, save: (v: number) => void) => (
    <LengthField key={label} label={label} units={u} value={value} onSave={(v) => save(v ?? 0)} />
  );
  const number = (label: string, value: number, save: (v: number) => void, suffix = "×") => (
    <PlainField
      key={label}
      label={label}
      suffix={suffix}
      value={value}
      onSave={(v) => v !== null && save(v)}
    />
  );
  const pair = (labels: [string, string], value: [number, number], save: (v: [number, number]) => void) => [
    length(labels[0], value[0], (x) => save([x, value[1]])),
    length(labels[1], value[1], (y) => save([value[0], y])),
  ];
  const fields = () => {
    switch (how.kind) {
      case "polar":
        return [
          ...pair(["Centre X", "Centre Y"], how.centre, (centre) => put({ ...how, centre })),
          number("How many", how.count, (count) => put({ ...how, count: Math.round(count) })),
          <PlainField
            key="step"
            label="Angle between"
            suffix="°"
            placeholder={`${Math.round(3600000 / how.count) / 10000}, all round`}
            value={how.step_deg}
            onSave={(step_deg) => put({ ...how, step_deg })}
          />,
        ];
      case "linear":
        return [
          number("How many", how.count, (count) => put({ ...how, count: Math.round(count) })),
          ...pair(["Step X", "Step Y"], how.step, (step) => put({ ...how, step })),
        ];
      case "grid":
        return [
          number("Columns", how.columns, (v) => put({ ...how, columns: Math.round(v) })),
          number("Rows", how.rows, (v) => put({ ...how, rows: Math.round(v) })),
          length("Step X", how.step_x, (step_x) => put({ ...how, step_x })),
          length("Step Y", how.step_y, (step_y) => put({ ...how, step_y })),
          number("Angle", how.angle_deg, (angle_deg) => put({ ...how, angle_deg }), "°"),
        ];
      case "mirror":
        return [
          ...pair(["Line through X", "Line through Y"], how.point, (point) => put({ ...how, point })),
          number("Angle to X", how.angle_deg, (angle_deg) => put({ ...how, angle_deg }), "°"),
        ];
      case "rotary":
        return [
          number("How many", how.count ?? 4, (count) => put({ ...how, count: Math.round(count) })),
          <PlainField
            key="step"
            label={`Turn of ${how.joint ?? "C"} between`}
            suffix="°"
            placeholder={`${Math.round(3600000 / (how.count ?? 4)) / 10000}, all round`}
            value={how.step_deg ?? null}
            onSave={(step_deg) => put({ ...how, step_deg })}
          />,
        ];
      case "listed":
        return [<Shifts key="at" at={how.at} save={(at) => put({ ...how, at })} />];
    }
  };
  return <div className={how.kind === "listed" ? "" : "two"}>{fields()}</div>;
}

function Shifts({ at, save }: { at: Vec3[]; save: (at: Vec3[]) => void }) {
  const shown = textOf(at);
  const [text, setText] = useState(shown);
  const [seen, see] = useState(shown);
  if (seen !== shown) {
    see(shown);
    setText(shown);
  }
  const rows = rowsOf(text);
  const wrong = wrongRow(rows, 2, 3);
  return (
    <Textarea
      label="Shift X Y and turn, one place a line"
      description="mm and degrees; the first place is the operation's own"
      autosize
      minRows={2}
      value={text}
      error={wrong !== null ? `Line ${wrong} is not X, Y and perhaps a turn.` : null}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={() =>
        wrong === null && rows.length > 0 && text !== shown && save(rows.map((r) => [r[0], r[1], r[2] ?? 0]))
      }
    />
  );
}
