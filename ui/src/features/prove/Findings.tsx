import { Button, Select } from "@mantine/core";
import { useState } from "react";
import type { Finding, ProofFacts, Vec3 } from "../../api/types";
import { shownLength } from "../../forms/fields";
import { clock, useShared } from "../../session/context";
import { useChosen } from "../../session/store";

const MARK = { stop: "◆", caution: "▲", note: "●" };

/** Which findings are listed. */
type Kept = "all" | "stop" | "caution" | "note" | "bodies";
const KEPT: Record<Kept, { label: string; holds: (f: Finding) => boolean }> = {
  all: { label: "All", holds: () => true },
  stop: { label: "Stops", holds: (f) => f.severity === "stop" },
  caution: { label: "Cautions", holds: (f) => f.severity === "caution" },
  note: { label: "Notes", holds: (f) => f.severity === "note" },
  bodies: { label: "Bodies", holds: (f) => ["collision", "near_miss", "standing"].includes(f.kind) },
};

/** What was found: a click leads to the moment and the place, buttons to the operation and to what mends it. */
export function Findings({ facts }: { facts: ProofFacts }) {
  const { document, go } = useShared();
  const { found, machineLook, set } = useChosen("found", "machineLook", "set");
  const lead = (f: Finding) => {
    // how the fixture stands is seen at any moment
    if (f.move >= 0 || f.kind === "standing")
      return set({
        time: f.time_s,
        place: f.place,
        placeFace: faceAt(f.place, facts),
        found: f,
        playing: 0,
        step: null,
        shown: "replay",
        // what meets is looked at on the machine
        ...(["collision", "near_miss"].includes(f.kind) && (machineLook ?? "hidden") === "hidden"
          ? { machineLook: "through" as const }
          : {}),
      });
    // what belongs to no single move is seen on the stock that its operation leaves
    const step = facts.operations.findIndex((o) => (o.operation || o.name) === f.operation);
    const row = facts.program.find((r) => r.setup === facts.setup && r.name === f.operation);
    set({
      ...(row ? { time: Math.min(row.end_s, facts.time_s) } : {}),
      step: step < 0 ? null : step,
      place: f.place,
      placeFace: null,
      found: f,
      playing: 0,
      shown: f.place && step < 0 ? "deviation" : "stock",
    });
  };
  const open = (f: Finding) => {
    const setup = document.setups.findIndex((s) => s.name === f.setup);
    const operation = document.setups[setup]?.operations.findIndex((o) => o.name === f.operation) ?? -1;
    if (operation < 0) return;
    set({ setup, operation });
    go("plan");
  };
  // what a later setup begins with is no loss: it has it still to take
  const next = document.setups.find((s) => s.stock.kind === "carried" && s.stock.setup === facts.setup);
  const all = facts.findings.filter((f) => !next || !["left_hidden", "left_unfinished"].includes(f.kind));
  const [kept, setKept] = useState<Kept>("all");
  const shown = all.filter((f) => KEPT[kept].holds(f));
  const at = shown.findIndex((f) => f === found);
  const step = (by: number) =>
    lead(shown[(Math.max(at, by > 0 ? -1 : 0) + by + shown.length) % shown.length]);
  const known = (f: Finding) =>
    document.setups.some((s) => s.name === f.setup && s.operations.some((o) => o.name === f.operation));
  return (
    <>
      <h3>Findings</h3>
      {all.length === 0 && <p>Nothing found: no collision, no overcut, no overtravel.</p>}
      {all.length > 2 && (
        <div style={{ display: "flex", alignItems: "center", gap: 6, marginBottom: 6 }}>
          <Select
            size="xs"
            w={150}
            aria-label="Findings shown"
            allowDeselect={false}
            value={kept}
            onChange={(v) => v && setKept(v as Kept)}
            data={Object.entries(KEPT).map(([value, { label, holds }]) => ({
              value,
              label: `${label} (${all.filter(holds).length})`,
            }))}
          />
          <Button.Group>
            <Button size="compact-xs" variant="default" disabled={!shown.length} onClick={() => step(-1)}>
              Previous
            </Button>
            <Button size="compact-xs" variant="default" disabled={!shown.length} onClick={() => step(1)}>
              Next
            </Button>
          </Button.Group>
        </div>
      )}
      {all.length < facts.findings.length && (
        <p className="small">What is left here is the stock of “{next!.name}”: its proof says what stays.</p>
      )}
      {shown.map((f, i) => (
        <div
          key={i}
          className={`finding ${f.severity}${f === found ? " followed" : ""}`}
          role="group"
          aria-label={`Finding ${i + 1}`}
        >
          <button className="lead" onClick={() => lead(f)}>
            <b>
              {MARK[f.severity]} {f.severity}
            </b>
            <span className="small">
              {f.operation && ` ${f.operation}`}
              {f.move >= 0 && `, at ${clock(f.time_s)}, line ${f.line}`}
            </span>
            <br />
            {f.words} <span className="small">{f.remedy}</span>
          </button>
          {(known(f) || f.mend) && (
            <div className="row">
              {known(f) && (
                <Button
                  size="compact-xs"
                  variant="subtle"
                  aria-label={`Open the operation ${f.operation}`}
                  onClick={() => open(f)}
                >
                  Open the operation
                </Button>
              )}
              <Mending finding={f} />
            </div>
          )}
        </div>
      ))}
    </>
  );
}

/** The face of the part whose worst place a place is. */
const faceAt = (place: Vec3 | null, facts: ProofFacts) =>
  facts.deviation.worst.find((w) => place && w.place.every((v, i) => v === place[i]))?.face ?? null;

const FIELDS: Record<string, string> = {
  feed_mm_min: "feed",
  spindle_rpm: "spindle speed",
  stick_out: "stick-out",
  shank_diameter: "shank diameter",
  x: "placement X",
  y: "placement Y",
  z: "placement Z",
  lead_share: "lead length",
};

const RATES: Record<string, string> = { feed_mm_min: "mm/min", spindle_rpm: "1/min" };

/** Does what should make a finding go. */
function Mending({ finding }: { finding: Finding }) {
  const { document, editing } = useShared();
  const { mend } = finding;
  const operation = document.setups
    .find((s) => s.name === finding.setup)
    ?.operations.find((o) => o.name === finding.operation);
  const own = Object.entries(mend?.operation ?? mend?.parameters ?? mend?.placement ?? mend?.tool ?? {})[0];
  if (!mend || !own || (!operation && !mend.placement)) return null;
  const [key, value] = own;
  const shown =
    key === "lead_share"
      ? `${value} of the diameter`
      : key in RATES
        ? `${value.toFixed(0)} ${RATES[key]}`
        : `${shownLength(value, document.units)} ${document.units}`;
  const whose = mend.tool ? `T${operation?.tool}’s ${FIELDS[key]}` : FIELDS[key];
  return (
    <Button
      size="compact-xs"
      variant="default"
      onClick={() =>
        editing.edit((d) => {
          const o = d.setups
            .find((s) => s.name === finding.setup)
            ?.operations.find((x) => x.name === finding.operation);
          const setup = d.setups.find((s) => s.name === finding.setup);
          if (!setup) return;
          if (mend.placement) Object.assign(setup.held_in?.on_table ?? setup.placement, mend.placement);
          if (!o) return;
          if (mend.parameters) o.parameters = { ...o.parameters, ...mend.parameters };
          if (mend.operation) Object.assign(o, mend.operation);
          if (mend.tool) Object.assign(d.tools.find((t) => t.number === o.tool) ?? {}, mend.tool);
        })
      }
    >
      Set {whose} to {shown}
    </Button>
  );
}
