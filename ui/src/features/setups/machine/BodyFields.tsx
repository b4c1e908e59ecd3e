import { Button } from "@mantine/core";
import type { Machine, MachineBodyDoc } from "../../../api/types";
import { ChoiceField, LengthField, TextField } from "../../../forms/fields";
import { tell } from "../../../api/hooks";
import { useShared } from "../../../session/context";
import { Point } from "../../../forms/Point";
import { BASE } from "./JointFields";
import { outlineOf, outlineText } from "./own";

export const ROLES = [
  "base",
  "bed",
  "column",
  "guard",
  "saddle",
  "table",
  "rotary",
  "trunnion",
  "link",
  "head",
  "spindle",
  "changer",
] as const satisfies readonly MachineBodyDoc["role"][];
const NAMES: Partial<Record<(typeof ROLES)[number], string>> = {
  rotary: "rotary table",
  link: "arm",
  spindle: "spindle nose",
  changer: "magazine arm",
};
const KINDS: Record<MachineBodyDoc["kind"], string> = {
  box: "Box",
  plate: "Plate",
  round: "Round body",
  extruded: "Extruded outline",
  revolved: "Revolved outline",
  file: "Solid of a file",
};

interface Props {
  machine: Machine;
  index: number;
  edit: (work: (m: Machine) => void) => Promise<boolean>;
}

/** A body of a machine: what it is, what carries it, its shape. */
export function BodyFields({ machine, index, edit }: Props) {
  const { document } = useShared();
  const body = machine.bodies![index];
  const put = (values: object) => edit((m) => void Object.assign(m.bodies![index], values));
  const length = (key: string, label: string, open = false) => (
    <LengthField
      label={label}
      units={document.units}
      value={(body as unknown as Record<string, number | null>)[key] ?? null}
      placeholder={open ? "as the first" : undefined}
      onSave={(v) => (v !== null || open) && put({ [key]: v })}
    />
  );
  const outlined = body.kind === "extruded" || body.kind === "revolved";
  return (
    <div role="group" aria-label={`Body ${index + 1}`} className="fields">
      <p className="small">
        {index + 1}: {KINDS[body.kind]}
        {body.kind === "file" && ` ${body.file}`}
      </p>
      <div className="two">
        <ChoiceField
          label="Stands for"
          value={body.role}
          data={ROLES.map((r) => ({ value: r, label: NAMES[r] ?? r }))}
          onSave={(role) => put({ role })}
        />
        <ChoiceField
          label="Goes with"
          value={body.joint ?? BASE}
          data={[BASE, ...machine.joints.map((j) => j.name)].map((v) => ({ value: v, label: v }))}
          onSave={(v) => put({ joint: v === BASE ? null : v })}
        />
      </div>
      {(body.kind === "box" || body.kind === "plate") && (
        <>
          <Point units={document.units} label="From" at={body.low} put={(low) => put({ low })} />
          <Point units={document.units} label="To" at={body.high} put={(high) => put({ high })} />
        </>
      )}
      {body.kind === "plate" && (
        <div className="two">
          {length("pitch", "Apart")}
          {length("width", "Width")}
          {length("depth", "Depth")}
        </div>
      )}
      {body.kind === "round" && (
        <>
          <Point units={document.units} label="From" at={body.begin} put={(begin) => put({ begin })} />
          <Point units={document.units} label="To" at={body.end} put={(end) => put({ end })} />
          <div className="two">
            {length("radius", "Radius")}
            {length("radius_end", "Radius at its end", true)}
          </div>
        </>
      )}
      {outlined && (
        <>
          <Point units={document.units} label="Stands at" at={body.at} put={(at) => put({ at })} />
          <TextField
            label={body.kind === "revolved" ? "Outline: radius, height; …" : "Outline: X, Y; …"}
            value={outlineText(body.outline)}
            onSave={(text) => {
              const outline = outlineOf(text ?? "");
              if (outline) return put({ outline });
              return tell("An outline is at least three pairs of numbers, such as 0, 0; 50, 0; 50, 20.");
            }}
          />
        </>
      )}
      {body.kind === "extruded" && (
        <div className="two">
          {length("bottom", "Bottom")}
          {length("top", "Top")}
        </div>
      )}
      <Button
        size="compact-xs"
        variant="subtle"
        color="gray"
        aria-label={`Remove body ${index + 1}`}
        onClick={() => edit((m) => void m.bodies!.splice(index, 1))}
      >
        Remove
      </Button>
    </div>
  );
}
