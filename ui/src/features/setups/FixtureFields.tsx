import { Button, FileButton } from "@mantine/core";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { FixturePart, Setup, Vec3 } from "../../api/types";
import { ChoiceField, LengthField, NameField, PlainField } from "../../forms/fields";
import { useShared } from "../../session/context";

const AXES = ["X", "Y", "Z"];
const JAWS = [
  ["grip", "Grip from below"],
  ["length", "Length"],
  ["thickness", "Thickness"],
  ["height", "Height"],
] as const;

interface Props {
  setup: Setup;
  edit: (work: (s: Setup) => void) => Promise<boolean>;
}

/** What holds the stock: jaws, blocks, solids from a file. Paths keep clear of it, and the proof looks at it. */
export function FixtureFields({ setup, edit }: Props) {
  const { id, state, editing } = useShared();
  const pieces = setup.fixture ?? [];
  const name = (kind: string) => {
    let n = 1;
    while (pieces.some((p) => p.name === (n > 1 ? `${kind} ${n}` : kind))) n++;
    return n > 1 ? `${kind} ${n}` : kind;
  };
  const add = (piece: FixturePart) => edit((s) => void (s.fixture = [...(s.fixture ?? []), piece]));
  const stock = state?.setups.find((s) => s.name === setup.name)?.stock;
  const [low, high] = stock ? [stock.min, stock.max] : [[0, 0, 0] as Vec3, [10, 10, 10] as Vec3];
  const take = async (file: File | null) => {
    if (!file) return;
    const body = new FormData();
    body.append("file", file);
    try {
      const kept = await send<string>("POST", `/jobs/${id}/files`, body);
      if (
        await add({
          kind: "solid",
          name: name("Solid"),
          file: kept,
          solid: null,
          scale: 1,
          at: [0, 0, 0],
          turn_deg: 0,
        })
      )
        editing.start("part");
    } catch (error) {
      tell(error);
    }
  };
  return (
    <div role="group" aria-label="Fixture">
      {pieces.map((piece, i) => (
        <Piece key={piece.name} piece={piece} index={i} edit={edit} />
      ))}
      <div style={{ display: "flex", gap: 6, flexWrap: "wrap", margin: "6px 0" }}>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() =>
            add({
              kind: "jaws",
              name: name("Jaws"),
              along: "x",
              grip: 5,
              length: 125,
              thickness: 25,
              height: 40,
            })
          }
        >
          Add jaws
        </Button>
        <Button
          size="compact-xs"
          variant="default"
          onClick={() =>
            add({
              kind: "block",
              name: name("Block"),
              low: [high[0], low[1], low[2]],
              high: [high[0] + 20, low[1] + 20, high[2]],
            })
          }
        >
          Add a block
        </Button>
        <FileButton onChange={take}>
          {(props) => (
            <Button size="compact-xs" variant="default" {...props}>
              Solid from a file
            </Button>
          )}
        </FileButton>
      </div>
    </div>
  );
}

function Piece({ piece, index, edit }: { piece: FixturePart; index: number; edit: Props["edit"] }) {
  const { document } = useShared();
  const put = (values: object) => edit((s) => void Object.assign(s.fixture![index], values));
  const corner = (at: Vec3, key: string, label: string) => (
    <div className="points" style={{ alignItems: "end" }}>
      {AXES.map((axis, k) => (
        <LengthField
          key={axis}
          label={`${label} ${axis}`}
          units={document.units}
          value={at[k]}
          onSave={(v) => {
            const place = [...at] as Vec3;
            place[k] = v ?? 0;
            return put({ [key]: place });
          }}
        />
      ))}
    </div>
  );
  return (
    <div role="group" aria-label={piece.name} style={{ marginBottom: 10 }}>
      <NameField label="Fixture piece" value={piece.name} onSave={(name) => put({ name })} />
      {piece.kind === "jaws" && (
        <>
          <ChoiceField
            label="Jaws run along"
            value={piece.along ?? "x"}
            data={["x", "y"].map((a) => ({ value: a, label: a.toUpperCase() }))}
            onSave={(v) => put({ along: v as "x" | "y" })}
          />
          <div className="two">
            {JAWS.map(([key, label]) => (
              <LengthField
                key={key}
                label={label}
                units={document.units}
                value={piece[key] ?? 0}
                onSave={(v) => v !== null && put({ [key]: v })}
              />
            ))}
          </div>
        </>
      )}
      {piece.kind === "block" && (
        <>
          {corner(piece.low, "low", "From")}
          {corner(piece.high, "high", "To")}
        </>
      )}
      {piece.kind === "solid" && (
        <>
          <p className="small">{piece.file}</p>
          {corner(piece.at, "at", "At")}
          <PlainField
            label="Angle about Z"
            suffix="°"
            value={piece.turn_deg ?? 0}
            onSave={(v) => put({ turn_deg: v ?? 0 })}
          />
        </>
      )}
      <Button
        size="compact-xs"
        variant="subtle"
        color="gray"
        aria-label={`Remove ${piece.name}`}
        onClick={() => edit((s) => void s.fixture!.splice(index, 1))}
      >
        Remove
      </Button>
    </div>
  );
}
