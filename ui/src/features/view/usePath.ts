import { useQueries } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { requestBlob } from "../../api/client";
import { useBlob, useProof } from "../../api/hooks";
import type { BenchScene } from "../../scene/BenchScene";
import type { PathColour } from "../../scene/pathColours";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";

/** More pieces of other paths than these are not drawn. */
const MOST_QUIET = 400_000;

/**
 * The paths of the plan: the chosen operation's strongly, in its side, the others of its setup quietly; at the proof
 * the posted program where it is asked for. Gives what the colours tell and the ends of their scale.
 */
export function usePath(scene: BenchScene | null): { by: PathColour; scale: [number, number] | null } {
  const { state, station, document } = useShared();
  const { setup, operation, release, colourBy, pathShown, sideShown } = useChosen(
    "setup",
    "operation",
    "release",
    "colourBy",
    "pathShown",
    "sideShown",
  );
  const [scale, setScale] = useState<[number, number] | null>(null);
  const planning = station === "plan";
  const doc = document.setups[setup];
  const rows = state?.setups[setup]?.operations ?? [];
  const sides = state?.setups[setup]?.sides ?? [];
  const chosen = operation !== null ? rows[operation] : undefined;
  const posted = station === "prove" && pathShown ? state?.releases[release] : undefined;
  const proof = posted?.state === "ready" ? posted.key : undefined;
  const facts = useProof(proof).data;
  const own = planning && chosen?.state === "ready" ? `/paths/${chosen.key}` : null;
  const address = facts ? `/proofs/${proof}/motion` : own;
  const blob = useBlob(address).data;
  const frameOf = (index: number) => {
    const side = doc?.operations[index]?.side;
    return sides.find((s) => s.name === side)?.setup_from_side ?? null;
  };
  const looked = station === "setups" ? sides.find((s) => s.name === sideShown)?.setup_from_side : undefined;
  const frame = planning && operation !== null ? frameOf(operation) : (looked ?? null);
  useEffect(() => {
    scene?.path.setSide(frame);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, JSON.stringify(frame)]);
  // the load is measured by the proof, the operations are one another's only in the program
  const by = planning && (colourBy === "load" || colourBy === "operation") ? "kind" : colourBy;
  useEffect(() => {
    if (scene) setScale(scene.path.set(address && blob ? blob : null, by));
  }, [scene, address, blob, by]);

  const others = planning
    ? rows.flatMap((row, i) =>
        i !== operation && row.state === "ready" && row.key && doc?.operations[i]?.enabled
          ? [{ key: row.key, side: frameOf(i) }]
          : [],
      )
    : [];
  const blobs = useQueries({
    queries: others.map(({ key }) => ({
      queryKey: ["blob", `/paths/${key}`],
      queryFn: () => requestBlob(`/paths/${key}`),
      staleTime: Infinity,
      gcTime: 60_000,
    })),
  });
  const known = blobs.map((b) => (b.data ? 1 : 0)).join("");
  useEffect(() => {
    let room = MOST_QUIET;
    const shown = others.flatMap(({ side }, i) => {
      const data = blobs[i].data;
      room -= data ? data.arrays.kind.length : 0;
      return data && room > 0 ? [{ blob: data, side }] : [];
    });
    scene?.path.setQuiet(shown);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [scene, known, JSON.stringify(others)]);
  return { by, scale };
}
