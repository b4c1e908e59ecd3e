import { Button, FileButton } from "@mantine/core";
import { useEffect } from "react";
import { send } from "../../../api/client";
import { tell } from "../../../api/hooks";
import type { Machine } from "../../../api/types";
import { ChoiceField, LengthField, NameField, PlainField } from "../../../forms/fields";
import { useShared } from "../../../session/context";
import { useSession } from "../../../session/store";
import { Point } from "../../../forms/Point";
import { BodyFields } from "./BodyFields";
import { BASE, JointFields } from "./JointFields";
import { freshBody, freshJoint } from "./own";

/** The shop's own machine on a form; the view shows it as it is. */
export function OwnMachine({ machine }: { machine: Machine }) {
  const { id, document, editing } = useShared();
  useEffect(() => useSession.getState().set({ standLook: "seen" }), []);
  const edit = (work: (m: Machine) => void) =>
    editing.edit((d) => work(d.machines!.find((m) => m.id === machine.id)!));
  const plain = (
    key: "feed_max_mm_min" | "spindle_power_kw" | "tool_change_s",
    label: string,
    unit: string,
  ) => (
    <PlainField
      label={label}
      suffix={unit}
      value={machine[key]}
      onSave={(v) => v !== null && edit((m) => void (m[key] = v))}
    />
  );
  const pair = (key: "table" | "spindle_rpm", k: 0 | 1, label: string, unit: string) => (
    <PlainField
      label={label}
      suffix={unit}
      value={machine[key][k]}
      onSave={(v) => v !== null && edit((m) => void (m[key][k] = v))}
    />
  );
  const add = async (file: File | null) => {
    if (!file) return;
    const body = new FormData();
    body.append("file", file);
    try {
      const kept = await send<string>("POST", `/jobs/${id}/files`, body);
      const made = { kind: "file", joint: null, role: "guard", file: kept, solid: null, scale: 1 } as const;
      if (await edit((m) => void (m.bodies = [...(m.bodies ?? []), made]))) editing.start("part");
    } catch (error) {
      tell(error);
    }
  };
  const mount = (key: "work" | "tool", label: string) => (
    <>
      <ChoiceField
        label={`${label} on`}
        value={machine[key].joint ?? BASE}
        data={[BASE, ...machine.joints.map((j) => j.name)].map((v) => ({ value: v, label: v }))}
        onSave={(v) => edit((m) => void (m[key].joint = v === BASE ? null : v))}
      />
      <Point
        units={document.units}
        label={`${label} at`}
        at={machine[key].at ?? [0, 0, 0]}
        put={(at) => edit((m) => void (m[key].at = at))}
      />
    </>
  );
  return (
    <div role="group" aria-label="Own machine" className="fields">
      <NameField
        label="Name of the machine"
        value={machine.name}
        onSave={(name) => edit((m) => void (m.name = name))}
      />
      <div className="two">
        {pair("table", 0, "Table along X", "mm")}
        {pair("table", 1, "Table along Y", "mm")}
        {pair("spindle_rpm", 0, "Slowest spindle", "1/min")}
        {pair("spindle_rpm", 1, "Fastest spindle", "1/min")}
        {plain("spindle_power_kw", "Power", "kW")}
        {plain("feed_max_mm_min", "Highest feed", "mm/min")}
        {plain("tool_change_s", "Tool change", "s")}
        <LengthField
          label="Rounds corners by"
          units={document.units}
          value={machine.junction_mm}
          onSave={(v) => v !== null && edit((m) => void (m.junction_mm = v))}
        />
      </div>
      {mount("work", "Work")}
      {mount("tool", "Tool")}
      <h4>Joints</h4>
      {machine.joints.map((joint) => (
        <JointFields key={joint.name} machine={machine} joint={joint} edit={edit} />
      ))}
      <Button
        size="compact-xs"
        variant="default"
        onClick={() => edit((m) => void m.joints.push(freshJoint(m)))}
      >
        Add a joint
      </Button>
      <h4>Bodies</h4>
      {(machine.bodies ?? []).map((_, i) => (
        <BodyFields key={i} machine={machine} index={i} edit={edit} />
      ))}
      <div className="buttons">
        {[
          ["box", "Add a box"],
          ["round", "Add a round body"],
        ].map(([kind, label]) => (
          <Button
            key={kind}
            size="compact-xs"
            variant="default"
            onClick={() => edit((m) => void (m.bodies = [...(m.bodies ?? []), freshBody(kind)]))}
          >
            {label}
          </Button>
        ))}
        <FileButton onChange={add}>
          {(props) => (
            <Button size="compact-xs" variant="default" {...props}>
              Body from a file
            </Button>
          )}
        </FileButton>
      </div>
    </div>
  );
}
