import { Button, Checkbox } from "@mantine/core";
import type { Release } from "../../api/types";
import { ChoiceField, Follows, NameField, PlainField } from "../../forms/fields";
import { clock, useShared } from "../bench/context";
import { useBench } from "../bench/store";
import { Working } from "../bench/Working";
import { useChosenProof } from "../prove/Prove";
import { KeepRelease, KeptReleases } from "./Kept";
import { Options } from "./Options";

/** The programs of the job and what they are proved to be. */
export function ReleaseSheet() {
  const { document, state, id, editing } = useShared();
  const { release: index, set } = useBench();
  const { release, facts } = useChosenProof();
  if (!state || state.releases.length === 0) {
    return <p>There is nothing to release yet: plan an operation first (station 4).</p>;
  }
  const blocking = facts?.findings.filter((f) => f.kind === "difference" || f.kind === "controller") ?? [];
  const stops = facts?.findings.filter((f) => f.severity === "stop") ?? [];
  const copy = () =>
    editing.edit((d) => {
      const source: Release = d.releases[index] ?? {
        ...state.releases[index],
        operations: null,
        program_number: 1,
        comment: "",
      };
      const taken = new Set([...d.releases.map((r) => r.name), ...state.releases.map((r) => r.name)]);
      let name = `${source.name}_2`;
      for (let n = 3; taken.has(name); n++) name = `${source.name}_${n}`;
      if (d.releases.length === 0) d.releases = implied(state.releases);
      const { setup, dialect, operations, comment, program_number, options } = source;
      d.releases.push({
        ...{ setup, dialect, operations, comment, options, name },
        program_number: program_number + 1,
      });
    });
  return (
    <>
      <h2>Release</h2>
      <table className="plan" aria-label="Releases">
        <thead>
          <tr>
            <th>Program</th>
            <th>Setup</th>
            <th>Dialect</th>
            <th>State</th>
          </tr>
        </thead>
        <tbody>
          {state.releases.map((r, i) => (
            <tr
              key={r.name}
              className={i === index ? "chosen" : ""}
              onClick={() => set({ release: i, time: 0, step: null })}
            >
              <td>{r.name}</td>
              <td>{r.setup}</td>
              <td>{r.dialect}</td>
              <td>
                <span className={`state ${r.state}`}>{r.state === "ready" ? "proved" : r.state}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Button variant="subtle" size="compact-xs" mt={6} onClick={copy}>
        One more like this
      </Button>
      {release?.state !== "ready" && (
        <div style={{ margin: "10px 0" }}>
          <p className="small">A program is handed out once it is proved.</p>
          <Working target="prove" label="Prove" />
        </div>
      )}
      {facts && release && (
        <>
          <h3>Hand out</h3>
          {blocking.length > 0 && <div className="problem stop">Blocked: {blocking[0].words}</div>}
          {stops.length > 0 && blocking.length === 0 && (
            <div className="problem stop">
              The proof has {stops.length} stop finding{stops.length > 1 ? "s" : ""}: look at them before this
              program runs.
            </div>
          )}
          <div style={{ display: "flex", gap: 8, margin: "8px 0" }}>
            <Button
              component="a"
              href={`/api/jobs/${id}/releases/${release.name}/program`}
              download={facts.file}
              disabled={blocking.length > 0}
            >
              Download {facts.file}
            </Button>
            <Button
              variant="default"
              component="a"
              href={`/api/jobs/${id}/releases/${release.name}/sheet`}
              target="_blank"
            >
              Setup sheet
            </Button>
          </div>
          {blocking.length === 0 && <KeepRelease name={release.name} />}
          <Follows label="Run time" value={clock(facts.time_s)} />
          <Follows label="Lines" value={String(facts.text.split("\n").length - 1)} />
          <h3>{facts.file}</h3>
          <pre className="program" aria-label="Program text" tabIndex={0}>
            {facts.text.split("\n").slice(0, 400).join("\n")}
          </pre>
        </>
      )}
      <KeptReleases />
      <h3>The job as a document</h3>
      <div style={{ display: "flex", gap: 8 }}>
        <Button variant="default" component="a" href={`/api/jobs/${id}/document.yaml`}>
          Document
        </Button>
        <Button variant="default" component="a" href={`/api/jobs/${id}/export.zip`}>
          With its models
        </Button>
      </div>
      {document.releases.length === 0 && (
        <p className="small">Without releases of your own, each setup gives one program.</p>
      )}
    </>
  );
}

function implied(releases: { name: string; setup: string; dialect: string }[]): Release[] {
  return releases.map((r, i) => ({
    name: r.name,
    setup: r.setup,
    dialect: r.dialect,
    operations: null,
    program_number: i + 1,
    comment: "",
  }));
}

export function ReleaseCard() {
  const { document, state, library, editing } = useShared();
  const { release: index } = useBench();
  const shown = state?.releases[index];
  if (!shown) return <p className="small">A release's settings stand here.</p>;
  const doc = document.releases[index];
  const value: Release = doc ?? implied(state!.releases)[index];
  const setup = document.setups.find((s) => s.name === value.setup);
  const edit = (work: (r: Release) => void) =>
    editing.edit((d) => {
      if (d.releases.length === 0) d.releases = implied(state!.releases);
      work(d.releases[index]);
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
      <ChoiceField
        label="Dialect"
        value={value.dialect}
        data={library.dialects.map((d) => ({ value: d.id, label: d.name }))}
        help={dialectWords(library.dialects.find((d) => d.id === value.dialect))}
        onSave={(v) => edit((r) => void (r.dialect = v))}
      />
      <PlainField
        label="Program number"
        suffix="O"
        value={value.program_number}
        onSave={(v) => v && edit((r) => void (r.program_number = v))}
      />
      <NameField
        label="Comment"
        value={value.comment || document.name}
        onSave={(v) => edit((r) => void (r.comment = v))}
      />
      <h3>Operations</h3>
      {setup?.operations.map((o) => (
        <Checkbox key={o.name} label={o.name} checked={on(o.name)} onChange={() => toggle(o.name)} mt={4} />
      ))}
      <Options options={value.options ?? {}} onSave={(options) => edit((r) => void (r.options = options))} />
      {doc && (
        <Button
          mt={14}
          variant="subtle"
          color="gray"
          size="compact-xs"
          onClick={() => editing.edit((d) => void d.releases.splice(index, 1))}
        >
          Remove this release
        </Button>
      )}
    </>
  );
}

function dialectWords(dialect: { units: string; arcs: string } | undefined) {
  return dialect ? `${dialect.units}, arcs by ${dialect.arcs}` : undefined;
}
