import { Button } from "@mantine/core";
import { useTriedSide } from "../api/hooks";
import type { Side } from "../api/types";
import { useShared } from "../session/context";
import { sidesAt, standing } from "../session/sides";
import { useChosen } from "../session/store";

/** What of a pick gives a side of the chosen setup, and whether its machine reaches it. */
export function WorkFrom() {
  const { station, faces, edges, document, editing } = useShared();
  const { picks, setup, operation, sideShown, set } = useChosen(
    "picks",
    "setup",
    "operation",
    "sideShown",
    "set",
  );
  const own = document.setups[setup];
  if (!own || (own.array ?? null)) return null;
  const taken = (own.sides ?? []).map((one) => one.name);
  const work = (side: Side) => {
    editing.edit((d) => {
      const s = d.setups[setup];
      s.sides = [...(s.sides ?? []), side];
      if (station === "plan" && operation !== null) s.operations[operation].side = side.name;
    });
    set({ picks: [] });
  };
  const shown = station === "setups" ? (own.sides ?? []).findIndex((s) => s.name === sideShown) : -1;
  const last = picks[picks.length - 1];
  return (
    <>
      {sidesAt(picks, faces, edges, taken).map(({ label, side }) => (
        <Offered key={label} label={label} side={side} onWork={() => work(side)} />
      ))}
      {shown >= 0 && last && (
        <Button
          size="compact-xs"
          variant="default"
          onClick={() => {
            editing.edit((d) => void (d.setups[setup].sides![shown].origin = last.point));
            set({ picks: [] });
          }}
        >
          Zero of {sideShown} at this point
        </Button>
      )}
    </>
  );
}

/** A side that may be made, with where the joints would stand or what the machine lacks. */
function Offered({ label, side, onWork }: { label: string; side: Side; onWork: () => void }) {
  const { id, revision } = useShared();
  const { setup } = useChosen("setup");
  const tried = useTriedSide(id, setup, revision, side).data;
  return (
    <span style={{ display: "inline-flex", flexDirection: "column", gap: 2 }}>
      <Button size="compact-xs" variant="default" onClick={onWork}>
        {label}
      </Button>
      {tried && (
        <span className={tried.out_of_reach ? "small wrong" : "small"} role="status">
          {tried.out_of_reach ? `Not reached: ${tried.out_of_reach}` : standing(tried.joints)}
        </span>
      )}
    </span>
  );
}
