import { Button } from "@mantine/core";
import { request } from "../../api/client";
import { tell } from "../../api/hooks";
import { Follows, shownLength } from "../../forms/fields";
import { clock, useShared } from "../../session/context";
import { provedWords } from "../../session/needs";
import { ProofState } from "../../session/ProofState";
import { useChosenProof } from "../../session/proof";
import { useChosen } from "../../session/store";
import { FromElsewhere } from "./FromElsewhere";
import { implied } from "./implied";
import { KeepRelease, KeptReleases } from "./Kept";
import { ProgramText } from "./ProgramText";

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
