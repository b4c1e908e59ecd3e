import { Button, FileButton } from "@mantine/core";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { Setup } from "../../api/types";
import { ChoiceField, LengthField, PlainField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { BoxPoints } from "./BoxPoints";
import { boxStock, roundStock, solidStock } from "../../session/fresh";

const ROUND = [
  ["diameter", "Diameter"],
  ["bore", "Bore, 0 for none"],
  ["z_low", "Allowance below"],
  ["z_high", "Allowance above"],
] as const;
const SIDES = [
  ["x_low", "−X"],
  ["x_high", "+X"],
  ["y_low", "−Y"],
  ["y_high", "+Y"],
  ["z_low", "below"],
  ["z_high", "above"],
] as const;

interface FieldProps {
  setup: Setup;
  edit: (work: (s: Setup) => void) => Promise<boolean>;
}

/** What a setup begins with. */
export function StockFields({ setup, edit }: FieldProps) {
  const { id, document, editing, state } = useShared();
  const take = async (file: File | null) => {
    if (!file) return;
    const body = new FormData();
    body.append("file", file);
    try {
      const name = await send<string>("POST", `/jobs/${id}/files`, body);
      if (await edit((s) => void (s.stock = solidStock(name)))) editing.start("part");
    } catch (error) {
      tell(error);
    }
  };
  const earlier = document.setups.slice(
    0,
    document.setups.findIndex((s) => s.name === setup.name),
  );
  const left = (name: string) => `left:${name}`;
  const { stock } = setup;
  const part = state?.setups.find((s) => s.name === setup.name)?.part;
  // what is not set up yet is as wide as it is drawn
  const size = part ? part.max.map((v, i) => v - part.min[i]) : (state?.part.size ?? [100, 100, 0]);
  const value = stock.kind === "carried" ? left(stock.setup) : stock.kind;
  const choose = (v: string) =>
    edit((s) => {
      if (v === "box") s.stock = boxStock();
      else if (v === "round") s.stock = roundStock(size);
      else if (v.startsWith("left:")) s.stock = { kind: "carried", setup: v.slice(5) };
    });
  return (
    <>
      <ChoiceField
        label="Begins as"
        value={value}
        data={[
          { value: "box", label: "A box around the part" },
          { value: "round", label: "A cylinder or a tube" },
          ...earlier
            .filter((s) => !s.array)
            .map((s) => ({ value: left(s.name), label: `What “${s.name}” leaves` })),
          ...(stock.kind === "solid" ? [{ value: "solid", label: `Solid from ${stock.file}` }] : []),
        ]}
        onSave={choose}
      />
      {stock.kind === "box" && (
        <div className="two">
          {SIDES.map(([key, label]) => (
            <LengthField
              key={key}
              label={`Allowance ${label}`}
              units={document.units}
              value={stock.allowance[key]}
              onSave={(v) => edit((s) => void (s.stock.kind === "box" && (s.stock.allowance[key] = v ?? 0)))}
            />
          ))}
        </div>
      )}
      {stock.kind === "round" && (
        <div className="two">
          {ROUND.map(([key, label]) => (
            <LengthField
              key={key}
              label={label}
              units={document.units}
              value={stock[key]}
              onSave={(v) => edit((s) => void (s.stock.kind === "round" && (s.stock[key] = v ?? 0)))}
            />
          ))}
        </div>
      )}
      <FileButton onChange={take}>
        {(props) => (
          <Button variant="subtle" size="compact-xs" mt={6} {...props}>
            Take a solid from a file
          </Button>
        )}
      </FileButton>
    </>
  );
}

/** How many parts are made in one blank, and how far apart they lie. */
export function ArrayFields({ setup, edit }: FieldProps) {
  const { document } = useShared();
  const array = setup.array ?? { columns: 1, rows: 1, gap_x: 10, gap_y: 10 };
  const put = (values: Partial<typeof array>) =>
    edit((s) => {
      const next = { ...array, ...values };
      s.array = next.columns * next.rows > 1 ? next : null;
    });
  const sides = [
    ["columns", "gap_x", "along X"],
    ["rows", "gap_y", "along Y"],
  ] as const;
  return (
    <>
      <h3>Parts in the blank</h3>
      <div className="two">
        {sides.map(([count, , words]) => (
          <PlainField
            key={count}
            label={`Parts ${words}`}
            suffix="×"
            value={array[count]}
            onSave={(v) => put({ [count]: Math.max(1, Math.round(v ?? 1)) })}
          />
        ))}
        {sides.map(
          ([count, gap, words]) =>
            array[count] > 1 && (
              <LengthField
                key={gap}
                label={`Gap ${words}`}
                units={document.units}
                value={array[gap]}
                onSave={(v) => put({ [gap]: v ?? 0 })}
              />
            ),
        )}
      </div>
    </>
  );
}

/** Where program zero is. */
export function ZeroFields({ setup, edit }: FieldProps) {
  const zero = setup.zero;
  const put = (values: Partial<Setup["zero"]>) =>
    edit((s) => void (s.zero = { ...s.zero, point: null, ...values }));
  const of = zero.of === "point" ? "stock" : zero.of;
  return (
    <>
      <ChoiceField
        label="Zero on"
        value={zero.of}
        data={[
          { value: "stock", label: "the stock's box" },
          { value: "part", label: "the part's box" },
          ...(zero.of === "point" ? [{ value: "point", label: "a picked point" }] : []),
        ]}
        onSave={(v) => v !== "point" && put({ of: v as "stock" | "part" })}
        help={zero.point ? zero.point.map((v) => v.toFixed(3)).join(", ") + " of the part" : undefined}
      />
      <BoxPoints zero={zero} onTake={(values) => put({ of, ...values })} />
    </>
  );
}
