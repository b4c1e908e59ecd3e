import { Button, Checkbox } from "@mantine/core";
import type { Release } from "../../api/types";
import { ChoiceField, NameField, PlainField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { isArm, machinesOf } from "../../session/machines";
import { useChosen } from "../../session/store";
import { implied } from "./implied";
import { Options } from "./Options";

/** What is decided for the chosen release. */
export function ReleaseCard() {
  const { document, state, library, editing } = useShared();
  const { release: index } = useChosen("release");
  const shown = state?.releases[index];
  if (!shown) return <p className="small">A release's settings stand here.</p>;
  const at = shown.index;
  const doc = document.releases[at];
  const value: Release = doc ?? implied(state!.releases)[at];
  const setup = document.setups.find((s) => s.name === value.setup);
  const machine = machinesOf(document, library).find((m) => m.id === setup?.machine);
  const arm = !!machine && isArm(machine);
  const fitting = library.dialects.filter((d) => (d.drives === "arm") === arm || d.id === value.dialect);
  const edit = (work: (r: Release) => void) =>
    editing.edit((d) => {
      if (d.releases.length === 0) d.releases = implied(state!.releases);
      work(d.releases[at]);
    });
  const on = (name: string) =>
    value.operations
      ? value.operations.includes(name)
      : !!setup?.operations.find((o) => o.name === name)?.enabled;
  const toggle = (name: string) =>
    edit((r) => {
      const all = setup!.operations.map((o) => o.name);
      const chosen = new Set(all.filter(on));
      if (chosen.has(name)) chosen.delete(name);
      else chosen.add(name);
      r.operations = all.filter((n) => chosen.has(n));
    });
  return (
    <>
      <h2>{value.name}</h2>
      <NameField
        label="File name"
        value={value.name}
        onSave={(v) => edit((r) => void (r.name = v.replace(/\s+/g, "_")))}
      />
      {value.file && (
        <p className="small">
          The program {value.file} was written elsewhere. It is read as a control reads it, cut out of this
          setup’s stock and measured; there is no plan to hold it against.
        </p>
      )}
      {!value.file && (
        <ChoiceField
          label="Dialect"
          value={value.dialect}
          data={fitting.map((d) => ({ value: d.id, label: d.name }))}
          help={dialectWords(library.dialects.find((d) => d.id === value.dialect))}
          onSave={(v) => edit((r) => void (r.dialect = v))}
        />
      )}
      {!arm && !value.file && (
        <PlainField
          label="Program number"
          suffix="O"
          value={value.program_number}
          onSave={(v) => v && edit((r) => void (r.program_number = v))}
        />
      )}
      <NameField
        label="Comment"
        value={value.comment || document.name}
        onSave={(v) => edit((r) => void (r.comment = v))}
      />
      {!arm && !value.file && <Together value={value} edit={edit} />}
      {(value.also ?? []).length === 0 && !value.file && (
        <>
          <h3>Operations</h3>
          {setup?.operations.map((o) => (
            <Checkbox
              key={o.name}
              label={o.name}
              checked={on(o.name)}
              onChange={() => toggle(o.name)}
              mt={4}
            />
          ))}
        </>
      )}
      {!value.file && (
        <Options
          options={value.options ?? {}}
          arm={arm}
          onSave={(options) => edit((r) => void (r.options = options))}
        />
      )}
      {doc && (
        <Button
          mt={14}
          variant="subtle"
          color="gray"
          size="compact-xs"
          onClick={() => editing.edit((d) => void d.releases.splice(at, 1))}
        >
          Remove this release
        </Button>
      )}
    </>
  );
}

interface TogetherProps {
  value: Release;
  edit: (work: (r: Release) => void) => void;
}

/** Which setups run in one program, in which order, in how many files. */
function Together({ value, edit }: TogetherProps) {
  const { document, library } = useShared();
  const own = document.setups.find((s) => s.name === value.setup);
  const machine = machinesOf(document, library).find((m) => m.id === own?.machine);
  // where joints turn, a program has one setup
  const turns = !!machine && machine.joints.some((j) => j.kind === "rotary");
  const others = document.setups.filter(
    (s) => !turns && s.name !== value.setup && s.operations.some((o) => o.enabled),
  );
  const also = value.also ?? [];
  const from = (own?.operations ?? []).filter((o) => o.enabled).map((o) => o.side ?? null);
  const sided = also.length === 0 && new Set(from).size > 1;
  return (
    <>
      {others.length > 0 && (
        <>
          <h3>In the same program</h3>
          {others.map((s) => {
            const apart = s.machine !== own?.machine || s.work_offset === own?.work_offset;
            return (
              <Checkbox
                key={s.name}
                mt={4}
                label={`${s.name}, ${s.work_offset}`}
                description={
                  apart && !also.includes(s.name)
                    ? "needs the same machine and an offset of its own"
                    : undefined
                }
                disabled={apart && !also.includes(s.name)}
                checked={also.includes(s.name)}
                onChange={() =>
                  edit((r) => {
                    r.also = also.includes(s.name) ? also.filter((n) => n !== s.name) : [...also, s.name];
                    if (r.also.length > 0) r.operations = null;
                  })
                }
              />
            );
          })}
        </>
      )}
      <div className="two" style={{ marginTop: 8 }}>
        {(also.length > 0 || sided) && (
          <ChoiceField
            label="Order"
            value={value.order ?? "planned"}
            data={[
              { value: "planned", label: also.length > 0 ? "Setup after setup" : "As planned" },
              {
                value: "fewest_changes",
                label: sided ? "Fewest tool changes and index moves" : "Fewest tool changes",
              },
            ]}
            onSave={(v) => edit((r) => void (r.order = v as Release["order"]))}
          />
        )}
        <ChoiceField
          label="Files"
          value={value.split ?? "none"}
          data={[
            { value: "none", label: "One program" },
            { value: "tool", label: "One a tool" },
          ]}
          onSave={(v) => edit((r) => void (r.split = v as Release["split"]))}
        />
      </div>
    </>
  );
}

function dialectWords(dialect: { units: string; arcs: string | null } | undefined) {
  if (!dialect) return undefined;
  return dialect.arcs
    ? `${dialect.units}, arcs by ${dialect.arcs}`
    : `${dialect.units}, joint and straight moves`;
}
