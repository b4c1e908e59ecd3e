import { Button, Select, TextInput } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../../api/client";
import { tell, useKept, useLineChanges } from "../../api/hooks";
import type { Kept, LineChange } from "../../api/types";
import { clock, useShared } from "../../session/context";

/** Keeps the shown release under a number, with words to remember it by. */
export function KeepRelease({ name }: { name: string }) {
  const { id } = useShared();
  const client = useQueryClient();
  const kept = useKept(id);
  const [notes, setNotes] = useState("");
  const [busy, setBusy] = useState(false);
  const keep = async () => {
    setBusy(true);
    try {
      await send<Kept>("POST", `/jobs/${id}/kept`, { name, notes });
      setNotes("");
      await client.invalidateQueries({ queryKey: ["kept", id] });
    } catch (error) {
      tell(error);
    }
    setBusy(false);
  };
  return (
    <div style={{ display: "flex", gap: 8, alignItems: "end", margin: "6px 0 12px" }}>
      <TextInput
        style={{ flex: 1 }}
        label="Revision note"
        placeholder="For whoever looks at it later"
        value={notes}
        onChange={(e) => setNotes(e.currentTarget.value)}
      />
      <Button variant="default" loading={busy} onClick={keep}>
        Save revision {(kept.data?.[0]?.number ?? 0) + 1}
      </Button>
    </div>
  );
}

/** The releases that were handed out, with their papers, and what changed from one to another. */
export function KeptReleases() {
  const { id } = useShared();
  const kept = useKept(id).data ?? [];
  const [pair, setPair] = useState<[number, number] | null>(null);
  if (kept.length === 0) return null;
  const [newer, older] = pair ?? [kept[0].number, kept[1]?.number ?? kept[0].number];
  const data = kept.map((k) => ({ value: String(k.number), label: `Revision ${k.number}, ${k.file}` }));
  return (
    <>
      <h3>Kept releases</h3>
      <table className="plan" aria-label="Kept releases">
        <thead>
          <tr>
            <th>No.</th>
            <th>Program</th>
            <th className="num">Run time</th>
            <th>Kept</th>
            <th>Papers</th>
          </tr>
        </thead>
        <tbody>
          {kept.map((k) => (
            <tr key={k.number} title={k.notes}>
              <td>{k.number}</td>
              <td>
                {k.file}
                {k.notes && <div className="small">{k.notes}</div>}
              </td>
              <td className="num">{clock(k.time_s)}</td>
              <td>{new Date(k.at).toLocaleString(undefined, { dateStyle: "short", timeStyle: "short" })}</td>
              <td>
                <a href={`/api/jobs/${id}/kept/${k.number}/program`} download={k.file}>
                  Text
                </a>{" "}
                <a href={`/api/jobs/${id}/kept/${k.number}/sheet`} target="_blank" rel="noreferrer">
                  Sheet
                </a>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {kept.length > 1 && (
        <>
          <div className="two" style={{ marginTop: 10 }}>
            <Select
              label="From"
              data={data}
              value={String(older)}
              allowDeselect={false}
              onChange={(v) => v && setPair([newer, Number(v)])}
            />
            <Select
              label="To"
              data={data}
              value={String(newer)}
              allowDeselect={false}
              onChange={(v) => v && setPair([Number(v), older])}
            />
          </div>
          <Changes first={older} second={newer} />
        </>
      )}
    </>
  );
}

const SIGNS: Record<LineChange["kind"], string> = { same: " ", out: "−", in: "+", gap: "…" };

function Changes({ first, second }: { first: number; second: number }) {
  const { id } = useShared();
  const changes = useLineChanges(id, first, second);
  if (changes.isError) return <p className="problem wrong">{changes.error.message}</p>;
  if (!changes.data) return <p className="small">Comparing…</p>;
  if (changes.data.length === 0) {
    return <p className="small">The two texts are the same, block numbers apart.</p>;
  }
  const out = changes.data.filter((l) => l.kind === "out").length;
  const put = changes.data.filter((l) => l.kind === "in").length;
  return (
    <>
      <p className="small">
        {out} lines taken out, {put} put in.
      </p>
      <pre className="program" aria-label="What changed" tabIndex={0}>
        {changes.data.slice(0, 1000).map((line, i) => (
          <div key={i} className={`line ${line.kind}`}>
            <span className="at">{line.second ?? line.first ?? ""}</span> {SIGNS[line.kind]} {line.text}
          </div>
        ))}
      </pre>
    </>
  );
}
