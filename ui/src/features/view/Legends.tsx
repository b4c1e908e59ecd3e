import { NativeSelect } from "@mantine/core";
import { deviationColour, KIND_NAMES, KINDS } from "../../scene/colours";
import { INCH, shownLength } from "../../forms/fields";
import { OPERATIONS, rampColour, type PathColour } from "../../scene/pathColours";
import { useChosen } from "../../session/store";
import { useShared } from "../../session/context";

/** The deviation scale with its numbers. */
export function DeviationLegend({ end }: { end: number }) {
  const { document } = useShared();
  const shares = Array.from({ length: 21 }, (_, i) => (i - 10) / 10);
  const length = (v: number) => shownLength(v, document.units);
  return (
    <div className="legend" role="group" aria-label="Deviation scale">
      <div className="bar">
        {shares.map((s) => {
          const [r, g, b] = deviationColour(s).map((c) => Math.round(255 * c));
          return <span key={s} style={{ background: `rgb(${r},${g},${b})` }} />;
        })}
      </div>
      <div className="ends">
        <span>-{length(end)} overcut</span>
        <span>leftover {length(end)}</span>
      </div>
      <div style={{ textAlign: "center" }}>on size within ±{length(end / 10)}</div>
    </div>
  );
}

const TITLES: Record<PathColour, string> = {
  kind: "kind of move",
  operation: "operation",
  feed: "feed",
  height: "height",
  load: "load",
};

interface PathProps {
  by: PathColour;
  scale: [number, number] | null;
  /** Of the program's operations, in their order. */
  names: string[];
}

/** What the colours of the path mean, with the numbers at the scale's ends. */
export function PathLegend({ by, scale, names }: PathProps) {
  const { document } = useShared();
  const css = (c: number) => `#${c.toString(16).padStart(6, "0")}`;
  if (by === "kind" || by === "operation") {
    const rows: [string, string][] =
      by === "kind"
        ? KIND_NAMES.map((name, i) => [name, css(KINDS[i])])
        : names.map((name, i) => [name, css(OPERATIONS[i % OPERATIONS.length])]);
    return (
      <div className="legend" style={{ width: "auto" }} role="group" aria-label="Colours of the path">
        {rows.map(([name, colour], i) => (
          <div key={i} className="keyline">
            <i style={{ borderColor: colour, borderTopStyle: name === "rapid" ? "dashed" : "solid" }} />
            {name}
          </div>
        ))}
      </div>
    );
  }
  if (!scale) return null;
  const inch = document.units === "inch";
  const shown = (v: number) => {
    if (by === "load") return `${v.toPrecision(2)} kW`;
    if (by === "height") return `${shownLength(v, document.units)} ${inch ? "in" : "mm"}`;
    return inch ? `${(v / INCH).toFixed(1)} in/min` : `${v.toFixed(0)} mm/min`;
  };
  return (
    <div className="legend" role="group" aria-label="Colours of the path">
      {TITLES[by]}
      <div className="bar">
        {Array.from({ length: 24 }, (_, i) => (
          <span
            key={i}
            style={{
              background: `rgb(${rampColour(i / 23)
                .map(Math.round)
                .join(",")})`,
            }}
          />
        ))}
      </div>
      <div className="ends">
        <span>{shown(scale[0])}</span>
        <span>{shown(scale[1])}</span>
      </div>
    </div>
  );
}

/** Chooses what the colours of the path tell. */
export function PathColours({ choices }: { choices: PathColour[] }) {
  const { colourBy, set } = useChosen("colourBy", "set");
  return (
    <NativeSelect
      size="xs"
      aria-label="Path coloured by"
      value={choices.includes(colourBy) ? colourBy : "kind"}
      data={choices.map((value) => ({ value, label: `path by ${TITLES[value]}` }))}
      onChange={(e) => set({ colourBy: e.currentTarget.value as PathColour })}
    />
  );
}
