import { Button, Checkbox, Select } from "@mantine/core";
import { useState } from "react";
import { send } from "../api/client";
import { useBosses, useHoles } from "../api/hooks";
import type { HoleGroup, Operation, StrategyInfo, Tool } from "../api/types";
import { useShared } from "../session/context";
import { holeAt } from "../session/fresh";
import { bySide } from "../session/sides";
import { useChosen, useSession } from "../session/store";

const PURPOSES: Record<string, string> = {
  thread: "threaded",
  clearance: "clearance",
  fit: "reamed fit",
  plain: "plain",
  milled: "milled",
};

const useGroups = () => {
  const { id, state } = useShared();
  return useHoles(id, state?.part.state === "ready" ? state.part.key : undefined).data ?? [];
};

/** Round holes or bosses that are made alike. */
type Round = Pick<HoleGroup, "words" | "count" | "faces">;

const idOf = (use: HoleGroup["uses"][number]) => `${use.purpose} ${use.name}`;
const walls = (group: Round) => group.faces.map((f) => f[0]);
const size = (group: Round) => `${group.count} x ${group.words}`;

const NONE: Partial<Record<StrategyInfo["target"], string>> = {
  holes: "No round hole was found in the part.",
  bosses: "No round boss was found in the part.",
  rounds: "Neither a round hole nor a round boss was found in the part.",
};

/** The round holes, the bosses or both of the part. */
export function useRounds(places: StrategyInfo["target"]): Round[] {
  const { id, state } = useShared();
  const key = state?.part.state === "ready" ? state.part.key : undefined;
  const holes = useHoles(id, places === "bosses" ? undefined : key).data ?? [];
  const bosses = useBosses(id, places === "holes" ? undefined : key).data ?? [];
  return [...holes, ...bosses];
}

/** The part's holes; a row shows its holes in the view. */
export function HoleList() {
  const groups = useGroups();
  const set = useSession((s) => s.set);
  if (groups.length === 0) return null;
  const show = (group: HoleGroup) =>
    set({
      picks: group.faces.flatMap((walls, i) => walls.map((face) => ({ face, point: group.mouths[i] }))),
    });
  return (
    <>
      <h3>Holes</h3>
      <table className="plan" aria-label="Holes of the part">
        <thead>
          <tr>
            <th className="num">Count</th>
            <th>Size</th>
            <th>Use, by size</th>
          </tr>
        </thead>
        <tbody>
          {groups.map((g) => (
            <tr
              key={walls(g).join()}
              tabIndex={0}
              title={`${g.uses[0].words} (${g.uses[0].table})`}
              onClick={() => show(g)}
              onKeyDown={(e) => e.key === "Enter" && show(g)}
            >
              <td className="num">{g.count}</td>
              <td>{g.words}</td>
              <td>
                {PURPOSES[g.uses[0].purpose]} {g.uses[0].name}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Which groups of holes or bosses an operation makes. */
export function HoleChoice({
  doc,
  edit,
  places,
}: {
  doc: Operation;
  edit: (work: (o: Operation) => void) => Promise<boolean>;
  places: StrategyInfo["target"];
}) {
  const groups = useRounds(places);
  const chosen = new Set((doc.holes ?? []).map((h) => h.face));
  const given = (doc.holes ?? []).filter((h) => h.face === null).length;
  return (
    <div role="group" aria-label={places === "bosses" ? "Bosses to make" : "Holes to make"}>
      {groups.map((g) => {
        const mine = g.faces.filter((f) => f.some((face) => chosen.has(face))).length;
        return (
          <Checkbox
            key={walls(g).join()}
            size="xs"
            my={4}
            label={mine > 0 && mine < g.count ? `${size(g)}, ${mine} of them` : size(g)}
            checked={mine === g.count}
            indeterminate={mine > 0 && mine < g.count}
            onChange={() =>
              edit((o) => {
                const own = new Set(g.faces.flat());
                const rest = (o.holes ?? []).filter((h) => typeof h.face !== "number" || !own.has(h.face));
                o.holes = mine === g.count ? rest : [...rest, ...walls(g).map(holeAt)];
              })
            }
          />
        );
      })}
      {given > 0 && <p className="small">And {given} given by their places.</p>}
      {groups.length === 0 && <p className="small">{NONE[places]}</p>}
    </div>
  );
}

interface HolePlan {
  recipe: string;
  tools: Tool[];
  operations: Operation[];
  words: string[];
}

/** Takes holes (by faces of their walls) out of a setup's operations; operations left without any go. */
function withoutHoles(operations: Operation[], faces: number[]): Operation[] {
  const gone = new Set(faces);
  return operations.flatMap((o) => {
    const rest = (o.holes ?? []).filter((h) => typeof h.face !== "number" || !gone.has(h.face));
    if (rest.length === (o.holes ?? []).length) return [o];
    return rest.length ? [{ ...o, holes: rest }] : [];
  });
}

/** Adds to the chosen setup what the server proposes, in place of what makes the holes `instead` today; what
it says of it, and whether it is still at it. */
export function useProposal(index?: number) {
  const { document, editing } = useShared();
  const { setup: chosen, set } = useChosen("setup", "set");
  const setup = index ?? chosen;
  const [words, say] = useState<string[]>([]);
  const [busy, wait] = useState(false);
  const add = async (path: string, order: object, instead: number[] = []) => {
    wait(true);
    try {
      const plan = await send<HolePlan>("POST", path, { setup, ...order });
      const staying = withoutHoles(document.setups[setup].operations, instead);
      const kept = await editing.edit((d) => {
        d.tools.push(...plan.tools);
        d.setups[setup].operations = [...structuredClone(staying), ...plan.operations];
      });
      if (kept) set({ setup, operation: staying.length, picks: [] });
      say(plan.words);
      return kept;
    } catch (error) {
      say([error instanceof Error ? error.message : String(error)]);
      return false;
    } finally {
      wait(false);
    }
  };
  return { add, words, busy };
}

/** What a proposal says of itself. */
export function Said({ words }: { words: string[] }) {
  return words.map((w) => (
    <p className="small" role="status" key={w}>
      {w}
    </p>
  ));
}

/** Adds what a recipe proposes for a group of holes to the chosen setup. */
export function HoleRecipe() {
  const groups = useGroups();
  const { id, document, state } = useShared();
  const { setup } = useChosen("setup");
  const proposal = useProposal();
  const [which, choose] = useState<string | null>(null);
  const [use, intend] = useState<string | null>(null);
  const group = groups.find((g) => walls(g).join() === which);
  const picked = useSession((s) => s.picks);
  const under = groups.find((g) => picked.some((p) => g.faces.flat().includes(p.face)));
  const wanted = group ?? under;
  if (groups.length === 0 || !document.setups[setup]) return null;
  const chosen = wanted?.uses.find((u) => idOf(u) === use) ?? wanted?.uses[0];
  const add = async (g: HoleGroup | null) => {
    const faces = g ? walls(g) : [];
    const own = new Set(g ? g.faces.flat() : []);
    const makers = document.setups[setup].operations.filter((o) =>
      (o.holes ?? []).some((h) => typeof h.face === "number" && own.has(h.face)),
    );
    const names = makers.map((o) => o.name).join(", ");
    const question = `${g?.count === 1 ? "This hole is" : "These holes are"} made by ${names}. Replace that?`;
    if (makers.length > 0 && !window.confirm(question)) return;
    const order = { faces, purpose: g ? chosen?.purpose : null, use: g ? chosen?.name : null };
    const kept = await proposal.add(`/jobs/${id}/holes/plan`, order, makers.length ? [...own] : []);
    if (!kept) return;
    choose(null);
    intend(null);
  };
  return (
    <>
      <h3>Plan holes</h3>
      <Select
        label="Holes"
        placeholder="Choose, or click one in the view"
        data={bySide(groups, (g) => g.entries, state?.setups[setup]).map(({ group, items }) => ({
          group,
          items: items.map((g) => ({ value: walls(g).join(), label: size(g) })),
        }))}
        value={wanted ? walls(wanted).join() : null}
        onChange={(v) => {
          choose(v);
          intend(null);
        }}
      />
      {wanted && (
        <>
          <Select
            mt={6}
            label="Use"
            data={[...new Map(wanted.uses.map((u) => [idOf(u), u]))].map(([value, u]) => ({
              value,
              label: `${PURPOSES[u.purpose]} ${u.name}`.trim(),
            }))}
            value={chosen ? idOf(chosen) : null}
            onChange={intend}
          />
          <p className="small">{chosen && `${chosen.words} (${chosen.table})`}</p>
          <Button size="compact-sm" mt={4} onClick={() => add(wanted)}>
            {wanted.count > 1 ? `Plan these ${wanted.count} holes` : "Plan this hole"}
          </Button>
        </>
      )}
      {!wanted && (
        <Button size="compact-sm" mt={6} variant="default" onClick={() => add(null)}>
          Plan every hole seen from here
        </Button>
      )}
      <Said words={proposal.words} />
    </>
  );
}
