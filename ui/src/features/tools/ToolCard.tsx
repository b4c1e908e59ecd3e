import { Button } from "@mantine/core";
import { ServerFault } from "../../api/client";
import { tell } from "../../api/hooks";
import { savedFrom, savingField } from "../../api/refusal";
import type { Fault, Tool } from "../../api/types";
import { ChoiceField, LengthField, NameField, PlainField, shownLength } from "../../forms/fields";
import { undercuts } from "../../scene/cutter";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";
import { Drawing } from "./Drawing";
import { KINDS, ofKind } from "./kinds";

/** The drawing and the dimensions of the chosen tool. */
export function ToolCard() {
  const { document, editing } = useShared();
  const { tool: number, drafts, set } = useChosen("tool", "drafts", "set");
  const saved = document.tools.find((t) => t.number === number);
  const draft = saved && drafts[saved.number];
  const tool = draft?.tool ?? saved;
  if (!tool) return <p className="small">Choose a tool to see its drawing and its dimensions.</p>;
  const index = document.tools.findIndex((t) => t.number === tool.number);
  const edit = (work: (t: Tool) => void) => {
    const next = structuredClone(tool);
    work(next);
    const rest = { ...drafts };
    delete rest[tool.number];
    const field = savingField();
    // dimensions that do not go together yet are a draft, until they do
    const told = (fault: Fault) =>
      fault.where === `tools[${index}]`
        ? set({ drafts: { ...rest, [tool.number]: { tool: next, fault } } })
        : (field ?? ((f: Fault) => tell(new ServerFault(f, f.what))))(fault);
    return savedFrom(told, () => editing.edit((d) => void (d.tools[index] = next))).then((ok) => {
      if (ok) set({ drafts: rest });
      return ok;
    });
  };
  const length = (key: "flute_length" | "stick_out" | "shank_diameter", label: string) => (
    <LengthField
      label={label}
      units={document.units}
      value={tool[key]}
      onSave={(v) => v !== null && edit((t) => void (t[key] = v))}
    />
  );
  const angle = (key: "taper_deg" | "point_deg", label: string) => (
    <PlainField
      label={label}
      suffix="°"
      value={tool[key]}
      onSave={(v) => v !== null && edit((t) => void (t[key] = v))}
    />
  );
  return (
    <>
      <h2>
        T{tool.number} {tool.name}
      </h2>
      {draft && (
        <Draft
          fault={draft.fault}
          change={(values) => edit((t) => void Object.assign(t, values))}
          takeBack={() =>
            set({
              drafts: Object.fromEntries(Object.entries(drafts).filter(([n]) => Number(n) !== tool.number)),
            })
          }
        />
      )}
      {tool.to_check && (
        <div className="problem">
          Made up for the depth of this part: check its lengths and its holder.{" "}
          <Button size="compact-xs" variant="default" onClick={() => edit((t) => void (t.to_check = false))}>
            They are right
          </Button>
        </div>
      )}
      <Drawing tool={saved!} />
      <NameField label="Name" value={tool.name} onSave={(v) => edit((t) => void (t.name = v))} />
      <div className="two">
        <PlainField
          label="Number"
          suffix="T"
          value={tool.number}
          onSave={(v) =>
            v !== null &&
            editing
              .edit((d) => {
                for (const s of d.setups)
                  for (const o of s.operations) if (o.tool === tool.number) o.tool = v;
                d.tools.find((t) => t.number === tool.number)!.number = v;
              })
              .then((ok) => ok && set({ tool: v }))
          }
        />
        <PlainField
          label="Teeth"
          suffix=""
          value={tool.teeth}
          onSave={(v) => v && edit((t) => void (t.teeth = v))}
        />
      </div>
      <ChoiceField
        label="Kind"
        value={tool.kind}
        data={KINDS}
        onSave={(v) => edit((t) => ofKind(t, v as Tool["kind"]))}
      />
      <div className="two">
        <LengthField
          label="Diameter"
          units={document.units}
          value={tool.diameter}
          onSave={(v) =>
            v !== null &&
            edit((t) => {
              t.diameter = v;
              if (t.kind === "ball" || t.kind === "lollipop") t.corner_radius = v / 2;
            })
          }
        />
        {["corner", "taper", "taper_ball", "t_slot"].includes(tool.kind) ? (
          <LengthField
            label="Corner radius"
            units={document.units}
            value={tool.corner_radius}
            onSave={(v) => v !== null && edit((t) => void (t.corner_radius = v))}
          />
        ) : (
          <span />
        )}
        {tool.kind === "taper" || tool.kind === "taper_ball" ? angle("taper_deg", "Side from axis") : null}
        {tool.kind === "tap" || tool.kind === "thread_mill" ? (
          <LengthField
            label="Pitch"
            units={document.units}
            value={tool.thread_pitch ?? 0}
            onSave={(v) => v !== null && edit((t) => void (t.thread_pitch = v))}
          />
        ) : null}
        {tool.kind === "thread_mill" ? (
          <PlainField
            label="Rows of teeth"
            suffix=""
            value={tool.thread_rows}
            onSave={(v) => v && edit((t) => void (t.thread_rows = v))}
          />
        ) : null}
        {tool.kind === "tap" ? (
          <ChoiceField
            label="Hand"
            value={tool.thread_hand}
            data={[
              { value: "right", label: "right" },
              { value: "left", label: "left" },
            ]}
            onSave={(v) => edit((t) => void (t.thread_hand = v as Tool["thread_hand"]))}
          />
        ) : null}
        {tool.kind === "chamfer" || tool.kind === "drill" ? angle("point_deg", "Point, included") : null}
        {tool.kind === "taper" || tool.kind === "chamfer" ? (
          <LengthField
            label="Flat at the tip, Ø"
            units={document.units}
            value={tool.tip_diameter}
            onSave={(v) => v !== null && edit((t) => void (t.tip_diameter = v))}
          />
        ) : null}
        {length("flute_length", undercuts(tool) ? "Head length" : "Flute length")}
        {length("stick_out", "Stick-out")}
        {length("shank_diameter", undercuts(tool) ? "Neck diameter" : "Shank diameter")}
        <ChoiceField
          label="Cutter material"
          value={tool.cutter_material}
          data={[
            { value: "carbide", label: "carbide" },
            { value: "hss", label: "high-speed steel" },
          ]}
          onSave={(v) => edit((t) => void (t.cutter_material = v as Tool["cutter_material"]))}
        />
        <ChoiceField
          label="Coating"
          value={tool.coating}
          data={[
            { value: "uncoated", label: "none" },
            { value: "nitride", label: "metal nitride" },
            { value: "carbon", label: "diamond and the like" },
          ]}
          onSave={(v) => edit((t) => void (t.coating = v as Tool["coating"]))}
        />
        <PlainField
          label="Speed at most"
          suffix="1/min"
          placeholder="no limit"
          value={tool.rpm_max ?? null}
          onSave={(v) => edit((t) => void (t.rpm_max = v))}
        />
        <PlainField
          label="Feed per tooth at most"
          suffix="mm"
          placeholder="no limit"
          value={tool.feed_per_tooth_max ?? null}
          onSave={(v) => edit((t) => void (t.feed_per_tooth_max = v))}
        />
      </div>
      <h3>Holder, from the cutter upward</h3>
      <Holder tool={tool} edit={edit} />
    </>
  );
}

const DIMENSIONS: Record<string, string> = {
  stick_out: "stick-out",
  flute_length: "flute length",
  diameter: "diameter",
  corner_radius: "corner radius",
  shank_diameter: "shank diameter",
  tip_diameter: "flat at the tip",
};

interface DraftProps {
  fault: Fault;
  change: (values: Record<string, number>) => void;
  takeBack: () => void;
}

/** Why dimensions do not go together, and what would make them. */
function Draft({ fault, change, takeBack }: DraftProps) {
  const { document } = useShared();
  const ways = Object.entries(fault.offer?.set ?? {}).filter(
    ([k, v]) => k in DIMENSIONS && typeof v === "number",
  );
  return (
    <div className="problem wrong" role="alert">
      Not saved yet: {fault.what} {fault.remedy}
      <div className="buttons">
        {ways.map(([key, value]) => (
          <Button
            key={key}
            size="compact-xs"
            variant="default"
            onClick={() => change({ [key]: value as number })}
          >
            Set the {DIMENSIONS[key]} to {shownLength(value as number, document.units)}
          </Button>
        ))}
        <Button size="compact-xs" variant="subtle" color="gray" onClick={takeBack}>
          Take it back
        </Button>
      </div>
    </div>
  );
}

function Holder({ tool, edit }: { tool: Tool; edit: (work: (t: Tool) => void) => Promise<boolean> }) {
  const { document } = useShared();
  const keys = [
    ["length", "Length"],
    ["diameter_low", "Ø below"],
    ["diameter_high", "Ø above"],
  ] as const;
  return (
    <>
      {tool.holder.map((segment, i) => (
        <div className="points" key={i}>
          {keys.map(([key, label]) => (
            <LengthField
              key={key}
              label={`${label} ${i + 1}`}
              units={document.units}
              value={segment[key]}
              onSave={(v) => v !== null && edit((t) => void (t.holder[i][key] = v))}
            />
          ))}
        </div>
      ))}
      <Button
        size="compact-xs"
        variant="subtle"
        onClick={() => edit((t) => void t.holder.push({ ...t.holder[t.holder.length - 1] }))}
      >
        Add a segment
      </Button>
      {tool.holder.length > 1 && (
        <Button
          size="compact-xs"
          variant="subtle"
          color="gray"
          onClick={() => edit((t) => void t.holder.pop())}
        >
          Remove the last
        </Button>
      )}
    </>
  );
}
