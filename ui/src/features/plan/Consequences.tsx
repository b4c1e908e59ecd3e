import { useWaysUp } from "../../api/hooks";
import type { Operation, OperationValues, StrategyInfo } from "../../api/types";
import { Follows, shownLength } from "../../forms/fields";
import { sentence, shown } from "../../forms/ParameterForm";
import { clock, useShared } from "../../session/context";
import { useChosen } from "../../session/store";
import { estimated } from "./estimate";

interface Follow {
  doc: Operation;
  values: OperationValues;
  strategy: StrategyInfo;
}

/** What follows from the decisions, before anything is computed. */
export function Consequences({ doc, values, strategy }: Follow) {
  const { id, document, state, faces } = useShared();
  const { setup } = useChosen("setup");
  const ways = useWaysUp(id, state?.part.state === "ready" ? state.part.key : undefined).data;
  const tool = document.tools.find((t) => t.number === doc.tool);
  if (!tool) return null;
  const rpm = values.derived.spindle_rpm.value;
  const feed = values.derived.feed_mm_min.value;
  const units = document.units;
  const length = units === "inch" ? "in" : "mm";
  const up = state?.setups[setup]?.setup_from_part?.[2]?.slice(0, 3) ?? [0, 0, 1];
  const from = document.setups[setup].up;
  const reached = ways?.find((w) => w.axis === from.axis && w.face === from.face)?.faces ?? [];
  const passes = strategy.finishes ? estimated(doc, values.parameters, tool, feed, faces, reached, up) : null;
  const perTooth = feed / (rpm * tool.teeth);
  const counts = (k: string) =>
    shown(strategy.parameters.properties[k], { given: doc.parameters, resolved: values.parameters });
  const rows = Object.entries(values.derived).filter(
    ([k]) =>
      ["stepover", "step_down"].includes(k) &&
      k in values.parameters &&
      counts(k) &&
      !(passes && k === "stepover"),
  );
  return (
    <>
      <Follows
        label="Cutting speed"
        value={`${((Math.PI * tool.diameter * rpm) / 1000).toFixed(1)} m/min`}
        why={`π D n / 1000 = π · ${tool.diameter} · ${rpm} / 1000`}
      />
      <Follows
        label="Feed per tooth"
        value={`${perTooth.toFixed(4)} mm`}
        why={`vf / (n z) = ${feed} / (${rpm} · ${tool.teeth})`}
      />
      {passes && (
        <>
          <Follows
            label="Stepover"
            value={`${shownLength(passes.stepover, units)} ${length}`}
            why="2 √(2 R c − c²) of the corner's radius and the cusp, or as given"
          />
          <Follows label="Passes, about" value={String(passes.passes)} />
          <Follows
            label="Time in cut, about"
            value={clock(60 * passes.minutes)}
            why={`${(passes.area / 100).toFixed(1)} cm² over the stepover is ${(passes.length / 1000).toFixed(1)} m of passes, at the feed. Before anything is computed; the proof tells the time.`}
          />
        </>
      )}
      {rows.map(([key, d]) => (
        <Follows
          key={key}
          label={`${sentence(key)} (${d.origin})`}
          value={`${Number(values.parameters[key]).toFixed(3)} ${d.unit}`}
          why={d.formula}
        />
      ))}
    </>
  );
}
