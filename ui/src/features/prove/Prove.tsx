import { Button, Select } from "@mantine/core";
import type { ProofFacts } from "../../api/types";
import { Follows, LengthField, shownLength } from "../../forms/fields";
import { BodyPairs } from "./BodyPairs";
import { CompareProofs } from "./Compare";
import { Findings } from "./Findings";
import { useChosenProof } from "../../session/proof";
import { clock, useShared } from "../../session/context";
import { standing } from "../../session/sides";
import { useChosen } from "../../session/store";
import { ProofState } from "../../session/ProofState";

export function useRelease() {
  const { state } = useShared();
  const { release, set } = useChosen("release", "set");
  if (!state || state.releases.length < 2) return null;
  const several = (r: { name: string }) => state.releases.filter((o) => o.name === r.name).length > 1;
  return (
    <Select
      label="Release"
      value={String(release)}
      allowDeselect={false}
      data={state.releases.map((r, i) => ({
        value: String(i),
        label: several(r) ? `${r.name}, ${r.setup}` : r.name,
      }))}
      onChange={(v) =>
        v && set({ release: Number(v), step: null, time: 0, playing: 0, place: null, found: null })
      }
    />
  );
}

/** Proof: state, findings, operations with times. */
export function ProveSheet() {
  const { document, state } = useShared();
  const { step, set } = useChosen("step", "set");
  const { release, facts } = useChosenProof();
  const choice = useRelease();
  if (!release) return <p>There is nothing to prove yet: plan an operation first (station 4).</p>;
  const several = new Set(facts?.program.map((s) => s.setup)).size > 1;
  return (
    <>
      <h2>Prove</h2>
      {choice}
      <div style={{ margin: "8px 0" }}>
        <ProofState release={release} />
      </div>
      {release.error && (
        <div className="problem wrong">
          {release.error.what} {release.error.remedy}
        </div>
      )}
      {facts && (
        <>
          <Findings facts={facts} />
          <h3>Operations</h3>
          <table className="plan" aria-label="Times">
            <thead>
              <tr>
                <th>Operation</th>
                {several && <th>Offset</th>}
                <th>Tool</th>
                <th className="num">Cut</th>
                <th className="num">Time</th>
              </tr>
            </thead>
            <tbody>
              {facts.program.map((row, k) => {
                const i =
                  row.setup === facts.setup ? facts.operations.findIndex((o) => o.name === row.name) : -1;
                const o = facts.operations[i];
                const elsewhere = state?.releases.findIndex(
                  (r) => r.name === facts.release && r.setup === row.setup,
                );
                const choose = () =>
                  o
                    ? set({ step: i, shown: "stock", time: Math.min(row.end_s, facts.time_s), playing: 0 })
                    : set({
                        release: elsewhere,
                        step: null,
                        time: row.begin_s,
                        playing: 0,
                        place: null,
                        found: null,
                      });
                return (
                  <tr key={k} className={o && step === i ? "chosen" : o ? "" : "away"} onClick={choose}>
                    <td>
                      {row.name}
                      {!o && <span className="small"> in {row.setup}</span>}
                    </td>
                    {several && <td>{row.offset}</td>}
                    <td>T{row.tool}</td>
                    <td className="num">{o ? `${(o.removed_mm3 / 1000).toFixed(2)} cm³` : ""}</td>
                    <td className="num">{clock(o ? o.time_s : row.end_s - row.begin_s)}</td>
                  </tr>
                );
              })}
              <tr>
                <td>
                  <b>Total with tool changes</b>
                </td>
                {several && <td />}
                <td />
                <td className="num">{(facts.removed_mm3 / 1000).toFixed(2)} cm³</td>
                <td className="num">
                  <b>{clock(facts.time_s)}</b>
                </td>
              </tr>
            </tbody>
          </table>
          <Sides sides={facts.sides ?? []} />
          <p className="small">
            Choose an operation to see the stock after it. Tools:{" "}
            {[...new Set(facts.operations.map((o) => o.tool))]
              .map((n) => `T${n} ${document.tools.find((t) => t.number === n)?.name ?? ""}`)
              .join(", ")}
            .
          </p>
        </>
      )}
    </>
  );
}

/** What a program does from each side of its setup. */
function Sides({ sides }: { sides: NonNullable<ProofFacts["sides"]> }) {
  if (sides.length === 0) return null;
  return (
    <>
      <h3>Sides</h3>
      <table className="plan" aria-label="Sides">
        <thead>
          <tr>
            <th>Side</th>
            <th className="num">Operations</th>
            <th className="num">Turned to</th>
            <th className="num">Time</th>
          </tr>
        </thead>
        <tbody>
          {sides.map((side) => (
            <tr key={side.name ?? ""}>
              <td>
                {side.name ?? "From above"}
                <div className="small">{standing(side.joints)}</div>
              </td>
              <td className="num">{side.operations}</td>
              <td className="num">{side.turns} x</td>
              <td className="num">{clock(side.time_s)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Deviation in numbers, and how finely the proof looks. */
export function ProveCard() {
  const { document, editing } = useShared();
  const { facts } = useChosenProof();
  const u = document.units;
  const d = facts?.deviation;
  return (
    <>
      <h2>Proof</h2>
      <LengthField
        label="On size within ±"
        units={u}
        value={document.proof.tolerance_mm}
        onSave={(v) => v && editing.edit((doc) => void (doc.proof.tolerance_mm = v))}
      />
      <LengthField
        label="Stock resolution"
        units={u}
        placeholder={facts ? shownLength(facts.cell_mm, u) : "from size"}
        origin={document.proof.cell_mm ? "given" : "from the part's size"}
        value={document.proof.cell_mm}
        onSave={(v) => editing.edit((doc) => void (doc.proof.cell_mm = v))}
      />
      {d && (
        <>
          <h3>Deviation from the design</h3>
          <Follows label="Largest overcut" value={shownLength(d.max_overcut_mm, u)} />
          <Follows label="Largest leftover" value={shownLength(d.max_leftover_mm, u)} />
          <Follows
            label="Part's surface on size"
            value={`${(100 * d.share_within_tolerance).toFixed(1)} %`}
            why="Area of the cut surface within the tolerance over the area of the design; faces this setup does not reach count as not on size."
          />
          <Follows
            label="Reachable surface on size"
            value={`${(100 * d.share_of_reachable).toFixed(2)} %`}
            why="Area within the tolerance over the area that one of the program's tools can touch from above; corners narrower than every tool and undercuts do not count."
          />
          <Follows
            label={`Of what Ø${shownLength(d.smallest_mm, u)} can reach`}
            value={`${(100 * d.share_of_smallest).toFixed(2)} %`}
            why="The same with the smallest end mill and ball of the shelf, however long they would have to be."
          />
          <Follows label="Cut surface with leftover" value={`${(100 * d.share_leftover).toFixed(1)} %`} />
          <Follows label="Cut surface overcut" value={`${(100 * d.share_overcut).toFixed(2)} %`} />
          <Histogram edges={d.histogram.edges_mm} areas={d.histogram.area_mm2} units={u} />
          <Worst title="Worst places" places={d.worst.filter((p) => within(p))} units={u} />
          <Worst title="Out of the tools’ reach" places={d.worst.filter((p) => !within(p))} units={u} />
        </>
      )}
      {facts && (facts.bodies?.length || document.proof.bodies === "none") && (
        <BodyPairs pairs={facts.bodies ?? []} />
      )}
      <CompareProofs />
      {facts && <Loads operations={facts.operations} setup={facts.setup} />}
      {!d && <p className="small">After the proof, the deviation from the design stands here.</p>}
    </>
  );
}

type Place = ProofFacts["deviation"]["worst"][number];

interface WorstProperties {
  title: string;
  places: Place[];
  units: "mm" | "inch";
}

/** What would get to a place, in a few words. */
const REACHED: Record<Place["reached"], string> = {
  tools: "",
  held: "the fixture is in the way",
  smallest: "a smaller tool fits",
  narrow: "too narrow for all",
  hidden: "not seen from here",
};

/** Whether a place is the tools' to make: overcuts are, and what they reach. */
const within = (p: Place) => p.deviation_mm < 0 || p.reached === "tools";

/** The place farthest off on every face, to step through. */
function Worst({ title, places, units }: WorstProperties) {
  const { place, set } = useChosen("place", "set");
  if (places.length === 0) {
    return title === "Worst places" ? (
      <p className="small">No place in reach of the tools is beyond the tolerance.</p>
    ) : null;
  }
  const at = places.findIndex((p) => p.place === place);
  const go = (i: number) =>
    set({
      place: places[i].place,
      placeFace: places[i].face,
      shown: "deviation",
      step: null,
      playing: 0,
    });
  return (
    <>
      <h3>{title}</h3>
      <Button.Group mb={4}>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => go((Math.max(at, 0) - 1 + places.length) % places.length)}
        >
          Previous place
        </Button>
        <Button size="compact-xs" variant="default" onClick={() => go((at + 1) % places.length)}>
          Next place
        </Button>
      </Button.Group>
      <table className="plan" aria-label={title}>
        <tbody>
          {places.map((p, i) => (
            <tr key={i} className={i === at ? "chosen" : ""} onClick={() => go(i)}>
              <td>{p.deviation_mm > 0 ? "leftover" : "overcut"}</td>
              <td className="num">{shownLength(Math.abs(p.deviation_mm), units)}</td>
              <td className="num small">face {p.face}</td>
              <td className="small">{p.deviation_mm > 0 && REACHED[p.reached]}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** What the cutters bore, measured from what the stock lost. */
function Loads({ operations, setup }: { operations: ProofFacts["operations"]; setup: string }) {
  const { step } = useChosen("step");
  const { document, editing } = useShared();
  const shown = operations[step ?? operations.length - 1];
  if (!shown?.load) return null;
  const l = shown.load;
  const all = l.time_in_cut_s + l.time_in_air_s;
  const saves = shown.adapted_saves_s ?? 0;
  const own = document.setups
    .find((s) => s.name === setup)
    ?.operations.find((o) => o.name === (shown.operation || shown.name));
  const follow = () =>
    editing.edit((d) => {
      const found = d.setups
        .find((s) => s.name === setup)
        ?.operations.find((o) => o.name === (shown.operation || shown.name));
      if (found) found.feed_follows = "engagement";
    });
  return (
    <>
      <h3>Load in “{shown.name}”</h3>
      <Follows
        label="Time in cut, in air"
        value={`${clock(l.time_in_cut_s)}, ${clock(l.time_in_air_s)} (${((100 * l.time_in_air_s) / Math.max(all, 1e-9)).toFixed(0)} %)`}
        why="Moves at feed or rapid that took nothing from the stock count as air."
      />
      {typeof l.engagement_p95_deg === "number" && (
        <>
          <Follows
            label="Engagement: half, 95 %, most"
            value={`${l.engagement_p50_deg!.toFixed(0)}°, ${l.engagement_p95_deg.toFixed(0)}°, ${l.engagement_max_deg!.toFixed(0)}°`}
            why="By length of cut: φ = arccos(1 − 2 ae / D), the width ae measured as ground cut per length of way."
          />
          {saves >= 1 && own?.feed_follows !== "engagement" && (
            <>
              <Follows
                label="A feed that follows it would save"
                value={`${clock(saves)} of ${clock(shown.time_s)}`}
                why="Where the cut is narrower than planned the chip is thinner, and the feed may rise until it is as thick: (1 − cos φ) / φ against the plan's, between half and twice the feed."
              />
              <Button size="compact-xs" variant="default" mb={6} onClick={follow}>
                Let the feed follow
              </Button>
            </>
          )}
          <Follows label="Greatest depth" value={`${l.depth_max_mm!.toFixed(2)} mm`} />
          <Follows
            label="Greatest removal rate"
            value={`${l.rate_max_cm3_min!.toFixed(1)} cm³/min`}
            why="Q = volume lost by the stock per time."
          />
          <Follows
            label="Mean chip, at most"
            value={`${l.chip_max_mm!.toFixed(3)} mm`}
            why="hm = 2 fz ae / (D φ)"
          />
          <Follows
            label="Power, at most"
            value={`${l.power_max_kw!.toFixed(2)} kW`}
            why="Pc = Q kc / 60 000, kc = kc1.1 hm^−mc (Kienzle 1952)"
          />
          <Follows
            label="Force, at most"
            value={`${l.force_max_n!.toFixed(0)} N`}
            why="Mean tangential force F = kc hm ap z φ / 2π"
          />
          <Follows
            label="Tool bends by up to"
            value={`${l.bending_max_mm!.toFixed(3)} mm`}
            why="Cantilever F L³ / (3 E I): flutes as a core of 0.8 D, shank whole."
          />
        </>
      )}
    </>
  );
}

function Histogram({ edges, areas, units }: { edges: number[]; areas: number[]; units: "mm" | "inch" }) {
  const top = Math.max(...areas, 1e-9);
  const width = 268 / areas.length;
  return (
    <svg width="100%" viewBox="0 0 268 92" role="img" aria-label="Area by deviation">
      {areas.map((a, i) => (
        <rect
          key={i}
          x={i * width + 0.5}
          width={width - 1}
          y={70 - 64 * Math.sqrt(a / top)}
          height={64 * Math.sqrt(a / top)}
          fill={
            edges[i] >= -1e-9 && edges[i + 1] > 0 && i > areas.length / 2
              ? "#a87c2a"
              : i < areas.length / 2 - 1
                ? "#6a4a93"
                : "#7c8890"
          }
        />
      ))}
      <line x1="0" x2="268" y1="70.5" y2="70.5" stroke="currentColor" strokeWidth="0.8" />
      <text x="0" y="84" fontSize="10" fill="currentColor">
        {shownLength(edges[0], units)}
      </text>
      <text x="134" y="84" fontSize="10" textAnchor="middle" fill="currentColor">
        0
      </text>
      <text x="268" y="84" fontSize="10" textAnchor="end" fill="currentColor">
        {shownLength(edges[edges.length - 1], units)}
      </text>
    </svg>
  );
}
