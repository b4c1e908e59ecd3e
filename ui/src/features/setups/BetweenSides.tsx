import type { Setup } from "../../api/types";
import { ChoiceField, Follows, LengthField, shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";

interface Props {
  index: number;
  setup: Setup;
  edit: (work: (s: Setup) => void) => Promise<boolean>;
}

/** Where the way from side to side goes: at the machine's upper end, or over a body about all that turns. */
export function BetweenSides({ index, setup, edit }: Props) {
  const { document, state } = useShared();
  if ((setup.sides ?? []).length === 0) return null;
  const between = setup.between_sides ?? { over: "upper_end", radius: null, room: 20 };
  const body = state?.setups[index]?.safe_body;
  const u = document.units;
  const put = (values: Partial<typeof between>) =>
    edit((s) => void (s.between_sides = { ...between, ...values }));
  return (
    <div role="group" aria-label="Between sides">
      <ChoiceField
        label="Way from side to side"
        value={between.over ?? "upper_end"}
        data={[
          { value: "upper_end", label: "At the upper end of Z" },
          { value: "safe_body", label: "Over a body about all that turns" },
        ]}
        onSave={(v) => void put({ over: v as "upper_end" | "safe_body" })}
      />
      {between.over === "safe_body" && (
        <>
          <div className="two" style={{ marginTop: 4 }}>
            <LengthField
              label="Radius of the body"
              units={u}
              placeholder={body ? shownLength(body.radius, u) : "as far as it gets"}
              value={between.radius ?? null}
              onSave={(radius) => void put({ radius })}
            />
            <LengthField
              label="Room over it"
              units={u}
              value={between.room ?? 20}
              onSave={(room) => void put({ room: room ?? 0 })}
            />
          </div>
          {body && (
            <Follows
              label="Height of the tip on the way"
              value={shownLength(body.top, u)}
              why="Over the body about stock, fixture and table, wherever the rotary joints stand. After a tool change the way begins at the upper end of Z."
            />
          )}
        </>
      )}
    </div>
  );
}
