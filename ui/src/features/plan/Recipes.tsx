import { Button, MultiSelect, Select, Textarea } from "@mantine/core";
import { useEffect, useState } from "react";
import { isRound } from "../../api/traits";
import type { HoleRecipeDoc, PartRecipeDoc, RecipeStepDoc } from "../../api/types";
import { ChoiceField, NameField, PlainField, SwitchField } from "../../forms/fields";
import { useShared } from "../../session/context";

const HOLES = "recipes of holes";

const plain = (values: string[]) => values.map((v) => ({ value: v, label: v }));

/** The job's own recipes: copies of those that ship with Fenrik, changed. */
export function Recipes() {
  const { document, library, editing } = useShared();
  const [open, show] = useState<string | null>(null);
  const own = [...(document.recipes ?? []), ...(document.part_recipes ?? [])];
  const copied = (name: string) =>
    editing.edit((d) => {
      const taken = new Set([...(d.recipes ?? []), ...(d.part_recipes ?? [])].map((r) => r.name));
      let wanted = `${name}, ours`;
      for (let n = 2; taken.has(wanted); n++) wanted = `${name}, ours ${n}`;
      const hole = library.recipes.find((r) => r.name === name);
      const part = library.part_recipes.find((r) => r.name === name);
      if (hole) d.recipes = [{ ...structuredClone(hole), name: wanted }, ...(d.recipes ?? [])];
      if (part) d.part_recipes = [{ ...structuredClone(part), name: wanted }, ...(d.part_recipes ?? [])];
      show(wanted);
    });
  return (
    <>
      <h3>Recipes</h3>
      <Select
        label="Copy a recipe to change it"
        placeholder="Those that ship with Fenrik"
        data={[
          { group: "For holes", items: plain(library.recipes.map((r) => r.name)) },
          { group: "For features and parts", items: plain(library.part_recipes.map((r) => r.name)) },
        ]}
        value={null}
        onChange={(v) => v && copied(v)}
      />
      {own.map((r) => (
        <div key={r.name} style={{ marginTop: 6 }}>
          <Button
            size="compact-xs"
            variant={open === r.name ? "default" : "subtle"}
            aria-expanded={open === r.name}
            onClick={() => show(open === r.name ? null : r.name)}
          >
            {r.name}
          </Button>
          {open === r.name && <Recipe name={r.name} renamed={show} />}
        </div>
      ))}
      {own.length > 0 && <p className="small">These go before those that ship with Fenrik.</p>}
    </>
  );
}

/** One recipe of the job, to change. */
function Recipe({ name, renamed }: { name: string; renamed: (name: string) => void }) {
  const { document, library, editing } = useShared();
  const hole = (document.recipes ?? []).find((r) => r.name === name);
  const part = (document.part_recipes ?? []).find((r) => r.name === name);
  const recipe = hole ?? part;
  if (!recipe) return null;
  const edit = (work: (r: HoleRecipeDoc & PartRecipeDoc) => void) =>
    editing.edit((d) => {
      const list = (hole ? d.recipes : d.part_recipes) as (HoleRecipeDoc & PartRecipeDoc)[];
      work(list.find((r) => r.name === name)!);
    });
  const out = () =>
    editing.edit((d) => {
      d.recipes = (d.recipes ?? []).filter((r) => r.name !== name);
      d.part_recipes = (d.part_recipes ?? []).filter((r) => r.name !== name);
    });
  return (
    <div role="group" aria-label={`Recipe ${name}`} className="recipe">
      <NameField
        label="Recipe"
        value={name}
        onSave={async (v) => {
          if (await edit((r) => void (r.name = v))) renamed(v);
        }}
      />
      {hole && (
        <>
          <MultiSelect
            label="For uses"
            data={library.recipe_choices.purposes}
            value={hole.purposes}
            onChange={(v) => v.length > 0 && edit((r) => void (r.purposes = v as typeof r.purposes))}
          />
          <MultiSelect
            label="For shapes"
            placeholder={hole.shapes?.length ? undefined : "All"}
            data={library.recipe_choices.shapes}
            value={hole.shapes ?? []}
            onChange={(v) => edit((r) => void (r.shapes = v.length > 0 ? (v as typeof r.shapes) : null))}
          />
          <div className="two">
            <PlainField
              label="Deeper than"
              suffix="diameters"
              value={hole.deeper_than}
              onSave={(v) => edit((r) => void (r.deeper_than = v ?? 0))}
            />
            <PlainField
              label="No deeper than"
              suffix="diameters"
              placeholder="any"
              value={hole.no_deeper_than > 1e6 ? null : hole.no_deeper_than}
              onSave={(v) => edit((r) => void (r.no_deeper_than = v ?? 1e9))}
            />
          </div>
        </>
      )}
      {part && (
        <MultiSelect
          label="For kinds"
          placeholder={part.kinds.length ? undefined : "All, and whole parts"}
          data={library.recipe_choices.kinds}
          value={part.kinds}
          onChange={(v) => edit((r) => void (r.kinds = v as typeof r.kinds))}
        />
      )}
      {recipe.steps.map((step, i) => (
        <Step
          key={i}
          number={i + 1}
          step={step}
          forHoles={!!hole}
          only={recipe.steps.length === 1}
          last={i === recipe.steps.length - 1}
          edit={(work) => edit((r) => work(r.steps[i]))}
          move={(by) =>
            edit((r) => {
              const [one] = r.steps.splice(i, 1);
              r.steps.splice(i + by, 0, one);
            })
          }
          again={() => edit((r) => void r.steps.splice(i + 1, 0, structuredClone(r.steps[i])))}
          out={() => edit((r) => void r.steps.splice(i, 1))}
        />
      ))}
      <Button size="compact-xs" variant="subtle" color="gray" mt={8} onClick={out}>
        Remove this recipe
      </Button>
    </div>
  );
}

interface StepProps {
  number: number;
  step: RecipeStepDoc;
  forHoles: boolean;
  only: boolean;
  last: boolean;
  edit: (work: (s: RecipeStepDoc) => void) => void;
  move: (by: number) => void;
  again: () => void;
  out: () => void;
}

/** One operation of a recipe: how, with what, when and on what. */
function Step({ number, step, forHoles, only, last, edit, move, again, out }: StepProps) {
  const { library } = useShared();
  const choices = library.recipe_choices;
  const strategies = library.strategies
    .filter((s) => !forHoles || isRound(s))
    .map((s) => ({ value: s.id, label: s.title }));
  if (!forHoles) strategies.push({ value: HOLES, label: "Holes by their own recipes" });
  const own = step.strategy !== HOLES;
  return (
    <div style={{ marginTop: 10 }}>
      <NameField label={`Step ${number}`} value={step.name} onSave={(v) => edit((s) => void (s.name = v))} />
      <div className="two">
        <ChoiceField
          label="By"
          value={step.strategy}
          data={strategies}
          onSave={(v) =>
            edit((s) => {
              s.strategy = v;
              s.parameters = {};
            })
          }
        />
        {own && (
          <ChoiceField
            label="With"
            value={step.tool}
            data={plain(forHoles ? choices.tool : choices.part_tool)}
            onSave={(v) => edit((s) => void (s.tool = v))}
          />
        )}
        {forHoles && (
          <>
            <ChoiceField
              label="As wide as its"
              value={step.size ?? "hole"}
              data={plain(choices.size)}
              onSave={(v) => edit((s) => void (s.size = v))}
            />
            <PlainField
              label="Less"
              suffix="mm"
              value={step.under ?? 0}
              onSave={(v) => edit((s) => void (s.under = v ?? 0))}
            />
          </>
        )}
        {!forHoles && own && (
          <>
            <ChoiceField
              label="When there are"
              value={step.when ?? "always"}
              data={plain(["always", ...choices.when])}
              onSave={(v) => edit((s) => void (s.when = v === "always" ? null : v))}
            />
            <ChoiceField
              label="On"
              value={step.works_on ?? "everything"}
              data={plain(choices.works_on)}
              onSave={(v) => edit((s) => void (s.works_on = v))}
            />
          </>
        )}
      </div>
      {step.strategy === "profile" && (
        <SwitchField
          label="Down by the whole flutes"
          value={step.full_flutes ?? false}
          onSave={(v) => edit((s) => void (s.full_flutes = v))}
        />
      )}
      {step.strategy === "profile" && step.tool === "finishing" && (
        <SwitchField
          label="Only what the mill for walls leaves"
          value={step.rest_of_walls ?? false}
          onSave={(v) => edit((s) => void (s.rest_of_walls = v))}
        />
      )}
      {own && <Parameters step={step} onSave={(v) => edit((s) => void (s.parameters = v))} />}
      <div className="row">
        <Button size="compact-xs" variant="subtle" disabled={number === 1} onClick={() => move(-1)}>
          Earlier
        </Button>
        <Button size="compact-xs" variant="subtle" disabled={last} onClick={() => move(1)}>
          Later
        </Button>
        <Button size="compact-xs" variant="subtle" onClick={again}>
          Repeat
        </Button>
        {!only && (
          <Button size="compact-xs" variant="subtle" color="gray" onClick={out}>
            Remove
          </Button>
        )}
      </div>
    </div>
  );
}

/** A step's parameters as lines of "name: value". */
function Parameters({
  step,
  onSave,
}: {
  step: RecipeStepDoc;
  onSave: (values: Record<string, unknown>) => void;
}) {
  const shown = Object.entries(step.parameters)
    .map(([key, value]) => `${key}: ${typeof value === "string" ? value : JSON.stringify(value)}`)
    .join("\n");
  const [text, setText] = useState(shown);
  useEffect(() => setText(shown), [shown]);
  const save = () => {
    if (text.trim() === shown) return;
    const values: Record<string, unknown> = {};
    for (const line of text.split("\n").filter((l) => l.trim())) {
      const at = line.indexOf(":");
      const key = (at < 0 ? line : line.slice(0, at)).trim();
      const value = at < 0 ? "" : line.slice(at + 1).trim();
      try {
        values[key] = JSON.parse(value);
      } catch {
        values[key] = value;
      }
    }
    onSave(values);
  };
  return (
    <Textarea
      label="Its parameters, one a line"
      placeholder="cycle: peck"
      autosize
      minRows={1}
      value={text}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={save}
    />
  );
}
