import { Button, Select, Textarea, TextInput } from "@mantine/core";
import { useEffect, useState } from "react";
import type { Area, Boundary, Operation } from "../../api/types";
import { LengthField } from "../../forms/fields";
import { rowsOf, textOf, wrongRow } from "../../forms/lines";
import { useShared } from "../../session/context";
import { useChosen, useSession } from "../../session/store";

interface Part {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
}

/** More faces than these are told by their number. */
const FEW = 4;

function words(b: Boundary): string {
  if (b.area) return `area “${b.area}”`;
  if (b.stock) return "the stock's outline";
  if (!b.faces) return "a polygon";
  return b.faces.length > FEW
    ? `${b.faces.length} faces`
    : `face${b.faces.length > 1 ? "s" : ""} ${b.faces.join(", ")}`;
}

const open = (values: Partial<Boundary>): Boundary => ({
  faces: null,
  stock: false,
  polygon: null,
  area: null,
  offset: 0,
  ...values,
});

/** Where an operation's tool is kept in or out: faces, the stock, polygons, or areas of the setup by name. */
export function Borders({ doc, edit }: Part) {
  const { document, editing } = useShared();
  const { setup } = useChosen("setup");
  const areas = document.setups[setup].areas ?? [];
  const name = (key: "keep_in" | "keep_out", i: number) =>
    editing.edit((d) => {
      const own = d.setups[setup];
      const known = (own.areas ??= []);
      const taken = new Set(known.map((a) => a.name));
      let n = known.length + 1;
      while (taken.has(`Area ${n}`)) n++;
      const mine = own.operations.find((o) => o.name === doc.name)![key];
      known.push({ name: `Area ${n}`, of: [mine[i]] });
      mine[i] = open({ area: `Area ${n}` });
    });
  return (
    <>
      {(["keep_in", "keep_out"] as const).flatMap((key) =>
        doc[key].map((b, i) => (
          <div key={key + i} className="two" style={{ alignItems: "end" }}>
            <LengthField
              label={`${key === "keep_in" ? "In" : "Out"}: ${words(b)}, offset`}
              units={document.units}
              value={b.offset}
              onSave={(v) => edit((o) => void (o[key][i].offset = v ?? 0))}
            />
            <div>
              {!b.area && (
                <Button size="compact-xs" variant="subtle" onClick={() => name(key, i)}>
                  Name it
                </Button>
              )}
              <Button
                size="compact-xs"
                variant="subtle"
                color="gray"
                onClick={() => edit((o) => void o[key].splice(i, 1))}
              >
                Remove
              </Button>
            </div>
          </div>
        )),
      )}
      <p className="small" style={{ margin: "4px 0" }}>
        Click faces in the view (Shift for several) to keep the tool in or out.
      </p>
      {areas.length > 0 && (
        <div className="two">
          {(["keep_in", "keep_out"] as const).map((key) => (
            <Select
              key={key}
              label={key === "keep_in" ? "Keep in an area" : "Keep out of an area"}
              placeholder="Choose"
              data={areas.map((a) => a.name)}
              value={null}
              onChange={(v) => v && edit((o) => void o[key].push(open({ area: v })))}
            />
          ))}
        </div>
      )}
      <Button
        size="compact-xs"
        variant="subtle"
        onClick={() => edit((o) => void o.keep_in.push(open({ stock: true })))}
      >
        Keep in the stock's outline
      </Button>
    </>
  );
}

/** The chosen setup's areas: their names, what they are made of, who uses them. */
export function NamedAreas() {
  const { document, editing } = useShared();
  const { setup, drawing, set } = useChosen("setup", "drawing", "set");
  const own = document.setups[setup];
  // corners are in this setup's coordinates: leaving it or the plan ends the drawing
  useEffect(() => () => useSession.getState().set({ drawing: null }), [setup]);
  if (!own) return null;
  const areas = own.areas ?? [];
  const uses = (name: string) =>
    own.operations.filter((o) => [...o.keep_in, ...o.keep_out].some((b) => b.area === name)).length;
  const rename = (from: string, to: string) =>
    editing.edit((d) => {
      const s = d.setups[setup];
      for (const a of s.areas ?? []) if (a.name === from) a.name = to;
      for (const o of s.operations)
        for (const b of [...o.keep_in, ...o.keep_out]) if (b.area === from) b.area = to;
    });
  const add = (polygon: [number, number][]) =>
    editing.edit((d) => {
      const known = (d.setups[setup].areas ??= []);
      let n = known.length + 1;
      while (known.some((a) => a.name === `Area ${n}`)) n++;
      known.push({ name: `Area ${n}`, of: [open({ polygon })] });
    });
  return (
    <>
      {areas.length > 0 && <h3>Areas of {own.name}</h3>}
      {areas.map((area) => (
        <AreaRow
          key={area.name}
          area={area}
          uses={uses(area.name)}
          rename={(to) => rename(area.name, to)}
          remove={() =>
            editing.edit((d) => {
              const s = d.setups[setup];
              s.areas = s.areas?.filter((a) => a.name !== area.name);
            })
          }
        />
      ))}
      {drawing ? (
        <Outline
          done={(points) => {
            if (points) add(points);
            set({ drawing: null });
          }}
        />
      ) : (
        <Button size="compact-xs" variant="subtle" mt={8} onClick={() => set({ drawing: [], picks: [] })}>
          Draw an area
        </Button>
      )}
    </>
  );
}

interface RowProps {
  area: Area;
  uses: number;
  rename: (to: string) => void;
  remove: () => void;
}

function AreaRow({ area, uses, rename, remove }: RowProps) {
  const [text, setText] = useState(area.name);
  const what = area.of.map(words).join(", ");
  return (
    <div className="two" style={{ alignItems: "end" }}>
      <TextInput
        label={`${what}; in ${uses} operation${uses === 1 ? "" : "s"}`}
        aria-label={`Name of ${area.name}`}
        value={text}
        onChange={(e) => setText(e.currentTarget.value)}
        onBlur={() => text.trim() && text !== area.name && rename(text.trim())}
        onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
      />
      <Button size="compact-xs" variant="subtle" color="gray" disabled={uses > 0} onClick={remove}>
        Remove
      </Button>
    </div>
  );
}

/** Corners of a polygon in program coordinates: clicked in the view, or written, one a line. */
function Outline({ done }: { done: (points: [number, number][] | null) => void }) {
  const { drawing, set } = useChosen("drawing", "set");
  const drawn = drawing ?? [];
  const [text, setText] = useState("");
  const rows = rowsOf(text);
  const wrong = wrongRow(rows, 2, 2);
  // a corner that was clicked is written, too
  if (wrong === null && textOf(rows) !== textOf(drawn)) setText(textOf(drawn));
  const write = (value: string) => {
    setText(value);
    const now = rowsOf(value);
    if (wrongRow(now, 2, 2) === null) set({ drawing: now as [number, number][] });
  };
  const fault = wrong !== null ? `Line ${wrong} is not X and Y.` : null;
  return (
    <div>
      <Textarea
        label="Corners, X Y a line"
        description="Click them in the view, where they catch on the part's corners, or write them: program coordinates, mm."
        autosize
        minRows={4}
        value={text}
        error={fault}
        onChange={(e) => write(e.currentTarget.value)}
      />
      <div style={{ display: "flex", gap: 6, marginTop: 6 }}>
        <Button size="compact-xs" disabled={drawn.length < 3 || fault !== null} onClick={() => done(drawn)}>
          Make the area
        </Button>
        <Button
          size="compact-xs"
          variant="subtle"
          disabled={drawn.length === 0}
          onClick={() => set({ drawing: drawn.slice(0, -1) })}
        >
          Take the last one back
        </Button>
        <Button size="compact-xs" variant="default" onClick={() => done(null)}>
          Cancel
        </Button>
      </div>
    </div>
  );
}
