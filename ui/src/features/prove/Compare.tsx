import { Select } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { request } from "../../api/client";
import { useKept, useProof } from "../../api/hooks";
import type { ProofFacts } from "../../api/types";
import { shownLength } from "../../forms/fields";
import { clock, useShared } from "../../session/context";
import { useChosenProof } from "../../session/proof";
import { compared, type Compared } from "./compared";

const PLACE = "fenrik-proofs";

/** The keys of the proof that a release has now and of the one before it, kept by this browser. */
function useBefore(name: string, key: string | undefined): string | undefined {
  const [before, setBefore] = useState<string>();
  useEffect(() => {
    if (!key) return;
    const all = JSON.parse(localStorage.getItem(PLACE) ?? "{}") as Record<string, [string, string | null]>;
    const [now, last] = all[name] ?? [key, null];
    const next: [string, string | null] = now === key ? [now, last] : [key, now];
    delete all[name]; // what was looked at last stands last
    const entries = [...Object.entries(all).slice(-40), [name, next]] as [string, [string, string | null]][];
    localStorage.setItem(PLACE, JSON.stringify(Object.fromEntries(entries)));
    setBefore(next[1] ?? undefined);
  }, [name, key]);
  return before;
}

/** The proof beside the one before the last change, or beside that of a kept release. */
export function CompareProofs() {
  const { id, document } = useShared();
  const { release, facts } = useChosenProof();
  const [wanted, want] = useState<string | null>(null);
  const before = useBefore(
    `${id}/${release?.name}/${release?.setup}`,
    release?.state === "ready" ? (release.key ?? undefined) : undefined,
  );
  const kept = (useKept(id).data ?? []).filter((k) => k.name === release?.name);
  const number = wanted?.startsWith("kept ") ? Number(wanted.slice(5)) : null;
  const earlier = useProof(wanted === "before" ? before : undefined).data;
  const saved = useQuery({
    queryKey: ["kept-proof", id, number],
    queryFn: () => request<Compared>(`/jobs/${id}/kept/${number}/proof`),
    enabled: number !== null,
    staleTime: Infinity,
  }).data;
  const data = [
    ...(before ? [{ value: "before", label: "the proof before the last change" }] : []),
    ...kept.map((k) => ({ value: `kept ${k.number}`, label: `revision ${k.number}` })),
  ];
  if (!facts || data.length === 0) return null;
  const other: Compared | undefined = number !== null ? saved : wanted === "before" ? earlier : undefined;
  const length = (mm: number) => shownLength(mm, document.units);
  return (
    <>
      <h3>Compare</h3>
      <Select
        label="With"
        placeholder="Choose a proof"
        clearable
        data={data}
        value={wanted}
        onChange={want}
      />
      {other && (
        <table className="plan" aria-label="Proofs side by side" style={{ marginTop: 8 }}>
          <thead>
            <tr>
              <th>What</th>
              <th className="num">{wanted === "before" ? "Before" : "Revision"}</th>
              <th className="num">Now</th>
            </tr>
          </thead>
          <tbody>
            {compared(other, facts as ProofFacts, length, clock).map(([what, then, now]) => (
              <tr key={what} style={{ cursor: "default" }}>
                <td>{what}</td>
                <td className="num">{then}</td>
                <td className="num">{then === now ? <span className="small">same</span> : <b>{now}</b>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
