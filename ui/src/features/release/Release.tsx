import { Button, Checkbox, FileButton } from "@mantine/core";
import { request, send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { Release } from "../../api/types";
import { ChoiceField, Follows, NameField, PlainField, shownLength } from "../../forms/fields";
import { clock, useShared } from "../../session/context";
import { isArm, machinesOf } from "../../session/machines";
import { freshRelease } from "../../session/fresh";
import { useChosen } from "../../session/store";
import { ProofState } from "../../session/ProofState";
import { useChosenProof } from "../../session/proof";
import { KeepRelease, KeptReleases } from "./Kept";
import { ProgramText } from "./ProgramText";
import { provedWords } from "../../session/needs";
import { Options } from "./Options";

/** The programs of the job and what they are proved to be. */
export function ReleaseSheet() {
  const { document, state, id, library, editing } = useShared();
  const { release: index, set } = useChosen("release", "set");
  const { release, facts } = useChosenProof();
  if (!state || state.releases.length === 0) {
    return (
      <>
        <p>There is nothing to release yet: plan an operation first (station 4).</p>
        {document.setups.length > 0 && <FromElsewhere />}
      </>
    );
  }
  const blocking =
    facts?.findings.filter((f) => ["difference", "controller", "reach"].includes(f.kind)) ?? [];
  const stops = facts?.findings.filter((f) => f.severity === "stop") ?? [];
  const dialectName = (own: string) => library.dialects.find((d) => d.id === own)?.name ?? own;
  const sheet = `/api/jobs/${id}/releases/${release?.name}/sheet?setup=${encodeURIComponent(release?.setup ?? "")}`;
  const copy = () =>
    editing.edit((d) => {
      const at = state.releases[index]?.index ?? 0;
      if (d.releases.length === 0) d.releases = implied(state.releases);
      const source = d.releases[at];
      const taken = new Set([...d.releases.map((r) => r.name), ...state.releases.map((r) => r.name)]);
      let name = `${source.name}_2`;
      for (let n = 3; taken.has(name); n++) name = `${source.name}_${n}`;
      d.releases.push({ ...structuredClone(source), name, program_number: source.program_number + 1 });
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
          {state.releases.map((r, i) => {
            const more = i > 0 && state.releases[i - 1].name === r.name; // of the same program
            return (
              <tr
                key={`${r.name}/${r.setup}`}
                className={i === index ? "chosen" : ""}
                onClick={() => set({ release: i, time: 0, step: null })}
              >
                <td>{more ? <span aria-label={r.name}>↳</span> : r.name}</td>
                <td>{r.setup}</td>
                <td>{r.file ? `from elsewhere: ${r.file}` : more ? "" : dialectName(r.dialect)}</td>
                <td>
                  <ProofState release={r} />
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <div style={{ display: "flex", gap: 8, marginTop: 6 }}>
        <Button variant="subtle" size="compact-xs" onClick={copy}>
          Duplicate
        </Button>
        <FromElsewhere />
      </div>
      {release?.state !== "ready" && (
        <div style={{ margin: "10px 0" }}>
          <p className="small">A program can be downloaded once it is proved.</p>
        </div>
      )}
      {facts && release && (
        <>
          <h3>Download</h3>
          {blocking.length > 0 && <div className="problem stop">Blocked: {blocking[0].words}</div>}
          {stops.length > 0 && blocking.length === 0 && (
            <div className="problem stop">
              The proof has {stops.length} stop finding{stops.length > 1 ? "s" : ""}: look at them before this
              program runs.
            </div>
          )}
          <div className="buttons">
            <Button
              component="a"
              href={`/api/jobs/${id}/releases/${release.name}/program`}
              download={facts.files.length > 1 ? `${release.name}.zip` : facts.file}
              disabled={blocking.length > 0}
            >
              Download {facts.files.length > 1 ? `${facts.files.length} files` : facts.file}
              {stops.length > 0 && ` (${provedWords([release])})`}
            </Button>
            <Button variant="default" component="a" href={sheet} target="_blank">
              Setup sheet
            </Button>
            <Button variant="default" onClick={() => printed(sheet)}>
              Print, PDF
            </Button>
          </div>
          {blocking.length === 0 && <KeepRelease name={release.name} />}
          <Follows label="Run time" value={clock(facts.time_s)} />
          <Follows label="Tool changes" value={String(facts.tool_changes)} />
          {Object.entries(facts.registers).map(([number, value]) => (
            <Follows
              key={number}
              label={`Register D${number} holds`}
              value={value ? `the radius, ${shownLength(value, document.units)}` : "0, or the wear"}
            />
          ))}
          {facts.order_saves_s > 0 && <Follows label="Time saved" value={clock(facts.order_saves_s)} />}
          {facts.operations
            .filter((o) => o.held)
            .map((o) => (
              <p className="small" key={o.name}>
                {o.name}: {o.held}.
              </p>
            ))}
          <Follows label="Lines" value={String(facts.text.split("\n").length - 1)} />
          <h3>{facts.file}</h3>
          <ProgramText text={facts.text} />
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

/** Prints a page, or saves it as PDF, as the browser offers it. */
async function printed(address: string) {
  const page = await request<string>(address.replace("/api", "")).catch(tell);
  if (!page) return;
  const frame = window.document.createElement("iframe");
  frame.style.display = "none";
  frame.srcdoc = page;
  frame.onload = () => {
    const own = frame.contentWindow;
    if (own) own.onafterprint = () => frame.remove();
    own?.print();
  };
  window.document.body.append(frame);
}

function implied(releases: { name: string; setup: string; dialect: string }[]): Release[] {
  return releases.map((r, i) => freshRelease(r.name, r.setup, r.dialect, i + 1));
}

/** Takes a program that was written elsewhere as a release of its own, for the setup that is chosen. */
function FromElsewhere() {
  const { document, state, id, editing } = useShared();
  const { release: index, set } = useChosen("release", "set");
  const setup = state?.releases[index]?.setup ?? document.setups[0]?.name;
  const take = async (file: File | null) => {
    if (!file || !setup) return;
    const body = new FormData();
    body.append("file", file);
    try {
      const stored = await send<string>("POST", `/jobs/${id}/programs`, body);
      const name = freeName(
        stored,
        [...document.releases, ...(state?.releases ?? [])].map((r) => r.name),
      );
      const made = await editing.edit((d) => {
        if (d.releases.length === 0) d.releases = implied(state?.releases ?? []);
        d.releases.push({ ...freshRelease(name, setup, "plain_iso", 1), file: stored });
      });
      if (made) {
        set({ release: state?.releases.length ?? 0, time: 0, step: null });
        editing.start("prove");
      }
    } catch (error) {
      tell(error);
    }
  };
  return (
    <FileButton onChange={take} inputProps={{ "aria-label": "Program file" }}>
      {(props) => (
        <Button variant="subtle" size="compact-xs" {...props}>
          Prove a program from elsewhere
        </Button>
      )}
    </FileButton>
  );
}

/** A release's name after a file, a number behind it where there is one of that name. */
function freeName(file: string, taken: string[]) {
  const stem = file.replace(/\.[^.]*$/, "").replace(/[^A-Za-z0-9_.-]+/g, "_");
  const first = /^[A-Za-z0-9]/.test(stem) ? stem.slice(0, 50) : `program_${stem}`.slice(0, 50);
  let name = first;
  for (let n = 2; taken.includes(name); n++) name = `${first}_${n}`;
  return name;
}

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
  const { document } = useShared();
  const own = document.setups.find((s) => s.name === value.setup);
  const others = document.setups.filter((s) => s.name !== value.setup && s.operations.some((o) => o.enabled));
  const also = value.also ?? [];
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
        {also.length > 0 && (
          <ChoiceField
            label="Order"
            value={value.order ?? "planned"}
            data={[
              { value: "planned", label: "Setup after setup" },
              { value: "fewest_changes", label: "Fewest tool changes" },
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
