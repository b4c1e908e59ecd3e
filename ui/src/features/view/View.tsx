import { Checkbox, SegmentedControl, useComputedColorScheme } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { BenchScene } from "../../scene/BenchScene";
import { DeviationLegend, PathColours, PathLegend } from "./Legends";
import { LOOKS } from "./looks";
import { MachineFields } from "./MachineFields";
import { Measured, MeasureButton } from "./Measured";
import { Offer } from "./Offer";
import { useKeptAreas } from "./useKept";
import { useMachine } from "./useMachine";
import { useMeasuring } from "./useMeasuring";
import { usePart } from "./usePart";
import { usePath } from "./usePath";
import { useDrawing, usePicking } from "./usePicking";
import { useProofView } from "./useProofView";
import { useSetup } from "./useSetup";
import { useChosenProof } from "../../session/proof";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";

/** The view in the middle: the same camera at every station. */
export function View() {
  const { station, state, document } = useShared();
  const bench = useChosen("picks", "operation", "shown", "pathShown", "setup", "measuring", "set");
  const canvas = useRef<HTMLCanvasElement>(null);
  const holder = useRef<HTMLElement>(null);
  const [scene, setScene] = useState<BenchScene | null>(null);
  const colorScheme = useComputedColorScheme("light");

  useEffect(() => {
    if (!canvas.current || !holder.current) return;
    const made = new BenchScene(canvas.current);
    const watch = new ResizeObserver(([entry]) =>
      made.resize(entry.contentRect.width, entry.contentRect.height),
    );
    watch.observe(holder.current);
    setScene(made);
    return () => {
      watch.disconnect();
      made.dispose();
      setScene(null);
    };
  }, []);
  useEffect(() => scene?.setDark(colorScheme === "dark"), [scene, colorScheme]);

  const drawn = usePart(scene);
  useSetup(scene);
  const { by, scale } = usePath(scene);
  const { inCell, met } = useProofView(scene);
  useDrawing(scene);
  useKeptAreas(scene);
  usePicking(scene, holder);
  const gap = useMeasuring(scene);

  const { facts } = useChosenProof();
  const standing = station === "setups";
  const setupName = standing ? document.setups[bench.setup]?.name : facts?.setup;
  const { machine, look } = useMachine(setupName, standing);
  const names = (facts?.operations ?? []).map((o) => o.name);
  const posted = station === "prove" && bench.pathShown && bench.shown !== "deviation";
  const legend = posted || (station === "plan" && bench.operation !== null);
  const empty = state?.part.state !== "ready";
  const deviation = document.proof.tolerance_mm * 10;
  return (
    <main className="view" ref={holder} aria-label="View">
      <canvas
        ref={canvas}
        tabIndex={0}
        aria-label="Model view"
        data-part={drawn}
        data-cell={inCell}
        data-met={met}
        data-picks={bench.picks.map((p) => p.face).join(",")}
      />
      <div className="looks" role="group" aria-label="Look from">
        {LOOKS.map(([name, direction]) => (
          <button key={name} onClick={() => scene?.look(direction)}>
            {name}
          </button>
        ))}
        {inCell && look !== "hidden" && <button onClick={() => scene?.lookAtMachine()}>Whole machine</button>}
      </div>
      {station === "plan" && bench.operation !== null && (
        <div className="showing">
          <PathColours choices={["kind", "feed", "height"]} />
        </div>
      )}
      {standing && !empty && setupName && (
        <div className="showing">
          <MachineFields setupName={setupName} standing />
          <MeasureButton />
        </div>
      )}
      {station === "prove" && (
        <div className="showing">
          <SegmentedControl
            size="xs"
            aria-label="Shown"
            value={bench.shown}
            onChange={(v) => bench.set({ shown: v as typeof bench.shown })}
            data={[
              { value: "replay", label: "Replay" },
              { value: "stock", label: "In-process stock" },
              { value: "deviation", label: "Deviation" },
            ]}
          />
          <Checkbox
            size="xs"
            label="Path"
            checked={bench.pathShown}
            onChange={(e) => bench.set({ pathShown: e.currentTarget.checked })}
          />
          {machine && facts && bench.shown === "replay" && <MachineFields setupName={facts.setup} />}
          {facts && <MeasureButton />}
          {bench.pathShown && <PathColours choices={["kind", "operation", "load", "feed", "height"]} />}
        </div>
      )}
      {station === "prove" && bench.shown === "deviation" && <DeviationLegend end={deviation} />}
      {legend && <PathLegend by={by} scale={scale} names={names} />}
      {!empty && bench.measuring === null && <Offer />}
      <Measured gap={gap} setupName={setupName} />
    </main>
  );
}
