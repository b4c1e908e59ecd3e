import { Button, Select } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { request } from "../../api/client";
import type { Tool } from "../../api/types";
import { ChoiceField, LengthField, NameField, PlainField, shownLength } from "../../forms/fields";
import { undercuts } from "../../scene/cutter";
import { useShared } from "../../session/context";
import { useSession } from "../../session/store";

const KINDS = [
  { value: "flat", label: "Flat end mill" },
  { value: "corner", label: "Corner-radius end mill" },
  { value: "ball", label: "Ball end mill" },
  { value: "taper", label: "Tapered end mill" },
  { value: "taper_ball", label: "Tapered ball end mill" },
  { value: "chamfer", label: "Chamfer cutter" },
  { value: "drill", label: "Drill" },
  { value: "reamer", label: "Reamer" },
  { value: "boring", label: "Boring head" },
  { value: "tap", label: "Tap" },
  { value: "thread_mill", label: "Thread mill" },
  { value: "lollipop", label: "Lollipop cutter" },
  { value: "t_slot", label: "T-slot cutter" },
];

/** A tool of another kind, with dimensions that its kind can have. */
function ofKind(t: Tool, kind: Tool["kind"]) {
  const tapered = kind === "taper" || kind === "taper_ball";
  t.kind = kind;
  t.corner_radius =
    kind === "ball" || kind === "lollipop"
      ? t.diameter / 2
      : kind === "corner" || kind === "taper_ball"
        ? t.diameter / 8
        : 0;
  t.tip_diameter = kind === "taper" ? t.diameter / 2 : 0;
  t.taper_deg = tapered ? 10 : 0;
  t.point_deg = kind === "chamfer" ? 90 : kind === "drill" ? 118 : 0;
  const threads = kind === "tap" || kind === "thread_mill";
  t.thread_pitch = threads ? t.diameter / 8 : null;
  t.thread_rows = 1;
  if (kind === "thread_mill") t.shank_diameter = Math.min(t.shank_diameter, t.diameter * 0.84);
  if (kind === "lollipop" || kind === "t_slot") {
    t.shank_diameter = Math.min(t.shank_diameter, t.diameter / 2);
    t.flute_length = kind === "lollipop" ? t.diameter * 0.93 : t.diameter / 3;
  }
  t.flute_length = Math.max(t.flute_length, tapered ? t.diameter * 2.5 : 0);
  t.stick_out = Math.max(t.stick_out, t.flute_length);
}

/** The tools of the job, and the library to take more from. */
export function ToolSheet() {
  const { document, editing, library } = useShared();
  const { tool, set } = useSession();
  const [from, setFrom] = useState<string | null>(null);
  const add = (source: Tool) => {
    const numbers = new Set(document.tools.map((t) => t.number));
    let number = source.number;
    while (numbers.has(number)) number++;
    editing.edit((d) => void d.tools.push({ ...structuredClone(source), number }));
    set({ tool: number });
  };
  const used = new Set(document.setups.flatMap((s) => s.operations.map((o) => o.tool)));
  return (
    <>
      <h2>Tools</h2>
      {document.tools.length === 0 ? (
        <p>No tool yet: take one from the library below.</p>
      ) : (
        <table className="plan" aria-label="Tools">
          <thead>
            <tr>
              <th>No.</th>
              <th>Tool</th>
              <th className="num">Ø</th>
              <th className="num">Corner</th>
              <th className="num">Stick-out</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {[...document.tools]
              .sort((a, b) => a.number - b.number)
              .map((t) => (
                <tr
                  key={t.number}
                  className={t.number === tool ? "chosen" : ""}
                  onClick={() => set({ tool: t.number })}
                >
                  <td>T{t.number}</td>
                  <td>{t.name}</td>
                  <td className="num">{shownLength(t.diameter, document.units)}</td>
                  <td className="num">
                    {t.corner_radius ? shownLength(t.corner_radius, document.units) : ""}
                  </td>
                  <td className="num">{shownLength(t.stick_out, document.units)}</td>
                  <td className="small">{used.has(t.number) ? "used" : ""}</td>
                </tr>
              ))}
          </tbody>
        </table>
      )}
      <h3>Library</h3>
      <div style={{ display: "flex", gap: 8, alignItems: "end" }}>
        <Select
          label="Tool of the library"
          searchable
          style={{ flex: 1 }}
          value={from}
          onChange={setFrom}
          data={library.tools.map((t) => ({ value: String(t.number), label: t.name }))}
        />
        <Button disabled={!from} onClick={() => add(library.tools.find((t) => String(t.number) === from)!)}>
          Take
        </Button>
      </div>
      {tool !== null && document.tools.some((t) => t.number === tool) && !used.has(tool) && (
        <Button
          mt={12}
          variant="subtle"
          color="gray"
          onClick={() => editing.edit((d) => void (d.tools = d.tools.filter((t) => t.number !== tool)))}
        >
          Remove T{tool}
        </Button>
      )}
    </>
  );
}

export function ToolCard() {
  const { document, editing } = useShared();
  const { tool: number, set } = useSession();
  const tool = document.tools.find((t) => t.number === number);
  const drawing = useQuery({
    queryKey: ["drawing", tool, document.units],
    queryFn: () =>
      request<string>(`/tools/drawing?unit=${document.units === "inch" ? "in" : "mm"}`, {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify(tool),
      }),
    enabled: !!tool,
    placeholderData: (before) => before,
  });
  if (!tool) return <p className="small">Choose a tool to see its drawing and its dimensions.</p>;
  const edit = (work: (t: Tool) => void) =>
    editing.edit((d) => work(d.tools.find((t) => t.number === tool.number)!));
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
      <div className="drawing" dangerouslySetInnerHTML={{ __html: drawing.data ?? "" }} />
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
