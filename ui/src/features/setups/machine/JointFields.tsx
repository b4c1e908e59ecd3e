import { Button } from "@mantine/core";
import type { Machine, MachineJoint, Vec3 } from "../../../api/types";
import {
  ChoiceField,
  LengthField,
  NameField,
  PlainField,
  SwitchField,
  TextField,
} from "../../../forms/fields";
import { inChain } from "../../../scene/chain";
import { useShared } from "../../../session/context";
import { Point } from "../../../forms/Point";
import { renameJoint } from "./own";

export const BASE = "the base";

interface Props {
  machine: Machine;
  joint: MachineJoint;
  edit: (work: (m: Machine) => void) => Promise<boolean>;
}

/** A joint: what it moves along or about, how far, how fast, and what carries it. */
export function JointFields({ machine, joint, edit }: Props) {
  const { document } = useShared();
  const rotary = joint.kind === "rotary";
  const put = (values: Partial<MachineJoint>) =>
    edit(
      (m) =>
        void Object.assign(
          m.joints.find((j) => j.name === joint.name)!,
          values,
        ),
    );
  const others = machine.joints.filter((j) => j.name !== joint.name).map((j) => j.name);
  const place = (
    label: string,
    value: number | null,
    placeholder: string,
    save: (v: number | null) => unknown,
  ) =>
    rotary ? (
      <PlainField label={label} suffix="°" value={value} placeholder={placeholder} onSave={save} />
    ) : (
      <LengthField
        label={label}
        units={document.units}
        value={value}
        placeholder={placeholder}
        onSave={save}
      />
    );
  const end = (key: "low" | "high", label: string) =>
    place(label, joint[key] ?? null, "none", (v) => put({ [key]: v }));
  const change = (at: number | null) =>
    edit((m) => {
      m.tool_change_at = { ...m.tool_change_at };
      if (at === null) delete m.tool_change_at[joint.name];
      else m.tool_change_at[joint.name] = at;
    });
  const moves = inChain(machine).includes(joint.name);
  const leads = machine.joints.some((j) => j.parent === joint.name);
  const used = leads || [machine.work.joint, machine.tool.joint].includes(joint.name);
  return (
    <div role="group" aria-label={`Joint ${joint.name}`} className="fields">
      <div className="two">
        <NameField
          label="Joint"
          value={joint.name}
          onSave={(name) => edit((m) => renameJoint(m, joint.name, name))}
        />
        <TextField
          label="Letter"
          value={joint.letter || null}
          onSave={(v) => put({ letter: (v ?? "").toUpperCase() })}
        />
      </div>
      <div className="two">
        <ChoiceField
          label="Moves"
          value={joint.kind}
          data={[
            { value: "linear", label: "along its axis" },
            { value: "rotary", label: "about its axis" },
          ]}
          onSave={(v) =>
            put(
              v === "rotary"
                ? { kind: "rotary", low: null, high: null, speed: 7200, acceleration: 360 }
                : { kind: "linear", low: -100, high: 100, speed: 10000, acceleration: 3, clamps: false },
            )
          }
        />
        <ChoiceField
          label="Carried by"
          value={joint.parent ?? BASE}
          data={[BASE, ...others].map((v) => ({ value: v, label: v }))}
          onSave={(v) => put({ parent: v === BASE ? null : v })}
        />
      </div>
      <Direction label="Axis" at={joint.axis} put={(axis) => put({ axis })} />
      {rotary && (
        <Point
          units={document.units}
          label="Through"
          at={joint.point ?? [0, 0, 0]}
          put={(point) => put({ point })}
        />
      )}
      <div className="two">
        {end("low", "Lower end")}
        {end("high", "Upper end")}
        <PlainField
          label="Speed"
          suffix={rotary ? "°/min" : "mm/min"}
          value={joint.speed}
          onSave={(v) => v !== null && put({ speed: v })}
        />
        <PlainField
          label="Acceleration"
          suffix={rotary ? "°/s²" : "m/s²"}
          value={joint.acceleration}
          onSave={(v) => v !== null && put({ acceleration: v })}
        />
      </div>
      {moves &&
        place(
          "Tool change at",
          machine.tool_change_at?.[joint.name] ?? null,
          joint.letter === "Z" ? "the upper end" : "any place",
          change,
        )}
      {rotary && (
        <SwitchField
          label="A brake holds it while it stands"
          value={joint.clamps ?? false}
          onSave={(clamps) => put({ clamps })}
        />
      )}
      {!used && machine.joints.length > 1 && (
        <Button
          size="compact-xs"
          variant="subtle"
          color="gray"
          aria-label={`Remove the joint ${joint.name}`}
          onClick={() =>
            edit((m) => {
              m.joints = m.joints.filter((j) => j.name !== joint.name);
              m.bodies = (m.bodies ?? []).filter((b) => b.joint !== joint.name);
              delete m.home?.[joint.name];
              delete m.tool_change_at?.[joint.name];
            })
          }
        >
          Remove
        </Button>
      )}
    </div>
  );
}

/** A direction in machine coordinates. */
function Direction({ label, at, put }: { label: string; at: Vec3; put: (at: Vec3) => unknown }) {
  return (
    <div className="points" style={{ alignItems: "end" }}>
      {(["X", "Y", "Z"] as const).map((axis, k) => (
        <PlainField
          key={axis}
          label={`${label} ${axis}`}
          suffix=""
          value={at[k]}
          onSave={(v) => {
            const way = [...at] as Vec3;
            way[k] = v ?? 0;
            return put(way);
          }}
        />
      ))}
    </div>
  );
}
