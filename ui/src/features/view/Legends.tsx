import { deviationColour, KIND_NAMES, KINDS } from "../../scene/colours";
import { shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";

/** The deviation scale with its numbers. */
export function DeviationLegend({ end }: { end: number }) {
  const { document } = useShared();
  const shares = Array.from({ length: 21 }, (_, i) => (i - 10) / 10);
  const length = (v: number) => shownLength(v, document.units);
  return (
    <div className="legend" aria-label="Deviation scale">
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

export function PathLegend() {
  return (
    <div className="legend" style={{ width: "auto" }} aria-label="Kinds of moves">
      {KIND_NAMES.map((name, i) => (
        <div key={name} className="keyline">
          <i
            style={{
              borderColor: `#${KINDS[i].toString(16).padStart(6, "0")}`,
              borderTopStyle: i === 0 ? "dashed" : "solid",
            }}
          />
          {name}
        </div>
      ))}
    </div>
  );
}
