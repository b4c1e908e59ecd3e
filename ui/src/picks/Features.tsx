import { Button, Select } from "@mantine/core";
import { useState } from "react";
import { useFeatures } from "../api/hooks";
import type { FeatureGroup, Vec3 } from "../api/types";
import { useShared } from "../session/context";
import { Said, useProposal } from "./Holes";
import { bySide, ELSEWHERE } from "../session/sides";
import { useChosen, useSession } from "../session/store";

const useGroups = () => {
  const { id, state } = useShared();
  return useFeatures(id, state?.part.state === "ready" ? state.part.key : undefined).data ?? [];
};

const name = (g: FeatureGroup) => (g.count > 1 ? `${g.count} × ${g.words}` : g.words);
const keyOf = (g: FeatureGroup) => g.faces[0].join();

/** The direction from which a feature is cut, in words. */
function from(axis: Vec3): string {
  const along = axis.findIndex((v) => Math.abs(v) > 1 - 1e-6);
  if (along < 0) return axis.map((v) => v.toFixed(2)).join(", ");
  return `${axis[along] > 0 ? "+" : "−"}${"XYZ"[along]}`;
}

/** The part's features but for holes and tops; a row shows its faces in the view. */
export function FeatureList() {
  const groups = useGroups().filter((g) => g.kind !== "top");
  const { faces } = useShared();
  const set = useSession((s) => s.set);
  if (groups.length === 0) return null;
  const middle = (face: number): Vec3 => {
    const { low, high } = faces[face - 1];
    return [(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, (low[2] + high[2]) / 2];
  };
  const show = (g: FeatureGroup) =>
    set({ picks: g.faces.flat().map((face) => ({ face, point: middle(face) })) });
  return (
    <>
      <h3>Pockets, bosses, edges</h3>
      <table className="plan" aria-label="Features of the part">
        <thead>
          <tr>
            <th className="num">Count</th>
            <th>What</th>
            <th>From</th>
          </tr>
        </thead>
        <tbody>
          {groups.map((g) => (
            <tr
              key={keyOf(g)}
              tabIndex={0}
              onClick={() => show(g)}
              onKeyDown={(e) => e.key === "Enter" && show(g)}
            >
              <td className="num">{g.count}</td>
              <td>{g.words}</td>
              <td>{from(g.axis)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** The directions from which features are made: what leads through and outsides from both ends. */
function waysInto(g: FeatureGroup): number[][] {
  const both = g.kind === "through pocket" || g.kind === "outside";
  return both ? [g.axis, g.axis.map((v) => -v)] : [g.axis];
}

/** Adds to the chosen setup what makes a group of features. */
export function FeatureRecipe() {
  const { id, document, state } = useShared();
  const { setup } = useChosen("setup");
  const { add, words, busy } = useProposal();
  const picked = useSession((s) => s.picks);
  const [which, choose] = useState<string | null>(null);
  const seen = bySide(
    useGroups().filter((g) => g.kind !== "fillet"),
    waysInto,
    state?.setups[setup],
  ).filter(({ group }) => group !== ELSEWHERE);
  const groups = seen.flatMap(({ items }) => items);
  if (groups.length === 0 || !document.setups[setup]) return null;
  const under = groups.find((g) => picked.some((p) => g.faces.flat().includes(p.face)));
  const wanted = groups.find((g) => keyOf(g) === which) ?? under;
  return (
    <>
      <h3>Plan features</h3>
      <Select
        label="Features"
        placeholder="Choose, or click one in the view"
        data={seen.map(({ group, items }) => ({
          group,
          items: items.map((g) => ({ value: keyOf(g), label: name(g) })),
        }))}
        value={wanted ? keyOf(wanted) : null}
        onChange={choose}
      />
      {wanted && (
        <Button
          size="compact-sm"
          mt={6}
          loading={busy}
          onClick={async () => {
            if (await add(`/jobs/${id}/plan/proposed`, { faces: wanted.faces.flat() })) choose(null);
          }}
        >
          {wanted.count > 1 ? `Plan these ${wanted.count}` : "Plan this"}
        </Button>
      )}
      <Said words={words} />
    </>
  );
}
