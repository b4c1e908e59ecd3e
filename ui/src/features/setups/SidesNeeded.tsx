import { Button } from "@mantine/core";
import { useSidesNeeded } from "../../api/hooks";
import type { Setup, Side, SideNeeded, SidesNeeded as Needed } from "../../api/types";
import { fresh } from "../../session/changes";
import { useShared } from "../../session/context";
import { towards } from "../../session/sides";
import { isOpen } from "../../session/runs";
import { useChosen } from "../../session/store";

/** A proposed side as a setup keeps it. */
const sideOf = (wanted: SideNeeded): Side => ({
  name: wanted.name,
  up: towards({ axis: wanted.axis as Side["up"]["axis"], face: wanted.face, reverse: wanted.reverse }),
  turn_deg: 0,
  origin: null,
});

type Clamping = Needed["clampings"][number];

const isUp = ({ up }: Setup, c: Clamping | SideNeeded) =>
  up.axis === c.axis && up.face === c.face && up.reverse === c.reverse;

/** The sides that would reach what is not reached from here yet, and those that the machine lacks. */
export function SidesNeeded({ index, setup }: { index: number; setup: Setup }) {
  const { id, revision, document, state, editing, runs, go, faces } = useShared();
  const { set } = useChosen("set");
  const facts = state?.setups[index];
  const standing = state?.part.state === "ready" && facts?.state === "ready";
  const needed = useSidesNeeded(id, index, revision, standing).data;
  if (!needed || (setup.array ?? null)) return null;
  // what another setup is there for needs no further one
  const others = document.setups.filter((_, i) => i !== index);
  const free = (c: Clamping | SideNeeded) => !others.some((s) => isUp(s, c));
  const found = needed.sides.filter((one) => !one.why || free(one));
  if (found.length === 0) return null;
  const clampings = needed.clampings.filter(free);
  const within = found.filter((f) => !f.why);
  const count = within.length === 1 ? "One more side reaches" : `${within.length} more sides reach`;
  const add = (wanted: SideNeeded[]) =>
    editing.edit((d) => {
      const own = d.setups[index];
      own.sides = [...(own.sides ?? []), ...wanted.map(sideOf)];
    });
  const planAll = async () => {
    if (!(await add(within))) return;
    set({ setup: index });
    editing.start(`whole:${index}`);
    go("plan");
  };
  const clamp = (c: Clamping) => {
    editing.edit((d) => {
      const up = { axis: c.axis as Setup["up"]["axis"], face: c.face, reverse: c.reverse };
      d.setups.push({ ...fresh(d.setups), up });
    });
    set({ setup: document.setups.length, operation: null });
  };
  const show = (one: SideNeeded) =>
    set({
      picks: one.faces.flatMap((face) => (faces[face - 1] ? [{ face, point: faces[face - 1].low }] : [])),
    });
  return (
    <div role="group" aria-label="Sides needed">
      <p className="small">
        {within.length === 0
          ? "What is left is out of this machine’s reach:"
          : `${count} all that this machine gets to in this clamping:`}
      </p>
      <table className="plan" aria-label="Sides needed">
        <thead>
          <tr>
            <th>Side</th>
            <th>What it adds</th>
            <th>
              <span className="unseen">Add it</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {found.map((one) => (
            <tr key={one.name} tabIndex={0} onClick={() => show(one)} title="Shows the faces that it adds">
              <td style={{ whiteSpace: "nowrap" }}>{one.name}</td>
              <td className="small">{one.words}</td>
              <td>
                {!one.why && (
                  <Button
                    size="compact-xs"
                    variant="subtle"
                    aria-label={`Add side ${one.name}`}
                    onClick={(e) => {
                      e.stopPropagation();
                      void add([one]);
                    }}
                  >
                    Add
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {clampings.map((c) => (
        <div key={c.words} className="row">
          <span className="small">One more clamping, {c.words}</span>
          <Button size="compact-xs" variant="subtle" onClick={() => clamp(c)}>
            Add this setup
          </Button>
        </div>
      ))}
      {within.length > 0 && (
        <div className="buttons" style={{ marginTop: 6 }}>
          <Button size="compact-sm" variant="default" onClick={() => void add(within)}>
            {within.length === 1 ? "Add this side" : "Add these sides"}
          </Button>
          <Button
            size="compact-sm"
            disabled={runs.some((r) => r.target === `whole:${index}` && isOpen(r))}
            onClick={() => void planAll()}
          >
            Add and plan everything
          </Button>
        </div>
      )}
    </div>
  );
}
