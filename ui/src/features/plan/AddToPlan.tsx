import { Select, Tabs } from "@mantine/core";
import { useEffect, useState } from "react";
import { useHoles } from "../../api/hooks";
import { FeatureRecipe } from "../../picks/Features";
import { HoleRecipe } from "../../picks/Holes";
import { WholePlan } from "../../picks/WholePlan";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";
import { NamedAreas } from "./Areas";
import { Recipes } from "./Recipes";

const WAYS = [
  ["whole", "Whole part"],
  ["operation", "Operation"],
  ["holes", "Holes"],
  ["features", "Features"],
  ["areas", "Areas"],
  ["recipes", "Recipes"],
];

/** The one place from which something is added to the plan; folded away while nothing is. */
export function AddToPlan({ add }: { add: (strategy: string) => void }) {
  const { id, document, library, state } = useShared();
  const { setup, operation, drawing, picks } = useChosen("setup", "operation", "drawing", "picks");
  const holes = useHoles(id, state?.part.state === "ready" ? state.part.key : undefined).data;
  const empty = !document.setups[setup]?.operations.length;
  const [way, choose] = useState<string | null>(empty ? "whole" : null);
  useEffect(() => {
    if (drawing) choose("areas");
  }, [drawing]);
  // what is picked while no operation is chosen is picked to be planned
  const last = operation === null ? picks.at(-1)?.face : undefined;
  useEffect(() => {
    if (last === undefined) return;
    choose((now) => now ?? (holes?.some((g) => g.faces.flat().includes(last)) ? "holes" : "features"));
  }, [last, holes]);
  return (
    <section aria-label="Add to the plan" className="adding">
      <h3>Add to the plan</h3>
      <Tabs value={way} onChange={choose} allowTabDeactivation variant="outline">
        <Tabs.List>
          {WAYS.map(([value, label]) => (
            <Tabs.Tab key={value} value={value}>
              {label}
            </Tabs.Tab>
          ))}
        </Tabs.List>
      </Tabs>
      {way === "whole" && <WholePlan />}
      {way === "operation" && (
        <Select
          mt={10}
          label="Add an operation"
          placeholder={empty ? "Choose how to cut, roughing first" : "Choose how to cut"}
          data={library.strategies.map((s) => ({ value: s.id, label: s.title }))}
          value={null}
          onChange={(v) => v && add(v)}
        />
      )}
      {way === "holes" && <HoleRecipe />}
      {way === "features" && <FeatureRecipe />}
      {way === "areas" && <NamedAreas />}
      {way === "recipes" && <Recipes />}
      {way === null && picks.length === 0 && <p className="small">Or click a hole or a face in the view.</p>}
    </section>
  );
}
