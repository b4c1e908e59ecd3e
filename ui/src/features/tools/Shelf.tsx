import { Button, Select, TextInput } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { request, send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { Tool } from "../../api/types";
import { shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";
import { Drawing } from "./Drawing";
import { KINDS, kindName } from "./kinds";
import { matches } from "./search";

/** A tool of the shelf; `own` is its number among those that the shop has kept. */
interface Shelved {
  tool: Tool;
  own: number | null;
}

const MATERIALS: Record<Tool["cutter_material"], string> = { carbide: "carbide", hss: "HSS" };

/** The shop's own tools and those that come with Fenrik, to look through and to add to the job. */
export function Shelf({ add }: { add: (tool: Tool) => void }) {
  const { document, library } = useShared();
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [kind, setKind] = useState<string | null>(null);
  const [looked, look] = useState<string | null>(null);
  const kept = useQuery({
    queryKey: ["shop-tools"],
    queryFn: () => request<{ id: number; tool: Tool }[]>("/shop/tools"),
  });
  const all: Shelved[] = [
    ...(kept.data ?? []).map(({ id, tool }) => ({ tool, own: id })),
    ...library.tools.map((tool) => ({ tool, own: null })),
  ];
  const shown = all.filter(
    ({ tool }) => (!kind || tool.kind === kind) && matches(tool, text, document.units),
  );
  const keyOf = (one: Shelved) => `${one.own ?? ""}/${one.tool.name}`;
  const drop = (id: number) =>
    send("DELETE", `/shop/tools/${id}`)
      .then(() => client.invalidateQueries({ queryKey: ["shop-tools"] }))
      .catch(tell);
  return (
    <section aria-label="Shelf">
      <h3>Shelf</h3>
      <div className="two">
        <TextInput
          label="Find a tool"
          placeholder="8, Ø8, 5/16 in, ball, T7"
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
          onKeyDown={(e) => {
            if (e.key === "Enter" && shown.length === 1) add(shown[0].tool);
          }}
        />
        <Select
          label="Kind of tool"
          placeholder="all"
          clearable
          data={KINDS.filter((k) => all.some(({ tool }) => tool.kind === k.value))}
          value={kind}
          onChange={setKind}
        />
      </div>
      <table className="plan" aria-label="Tools of the shelf" style={{ marginTop: 8 }}>
        <thead>
          <tr>
            <th>Tool</th>
            <th className="num">Ø</th>
            <th className="num">Corner</th>
            <th className="num">Length</th>
            <th>Material</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => {
            const { tool } = one;
            const open = looked === keyOf(one);
            const row = (
              <tr
                key={keyOf(one)}
                className={open ? "chosen" : ""}
                aria-selected={open}
                tabIndex={0}
                onClick={() => look(open ? null : keyOf(one))}
                onKeyDown={(e) => e.key === "Enter" && look(open ? null : keyOf(one))}
              >
                <td>
                  <span>{tool.name}</span>
                  <div className="small">
                    {kindName(tool.kind)}
                    {one.own !== null && ", our own"}
                  </div>
                </td>
                <td className="num">{shownLength(tool.diameter, document.units)}</td>
                <td className="num">
                  {tool.corner_radius ? shownLength(tool.corner_radius, document.units) : ""}
                </td>
                <td className="num">{shownLength(tool.flute_length, document.units)}</td>
                <td className="small">{MATERIALS[tool.cutter_material]}</td>
              </tr>
            );
            if (!open) return row;
            return [
              row,
              <tr key={`${keyOf(one)} drawing`} className="failure">
                <td colSpan={5}>
                  <Drawing tool={tool} />
                  <div className="buttons">
                    <Button
                      size="compact-xs"
                      onClick={() => {
                        look(null);
                        add(tool);
                      }}
                    >
                      Add to job
                    </Button>
                    {one.own !== null && (
                      <Button size="compact-xs" variant="subtle" color="gray" onClick={() => drop(one.own!)}>
                        Keep it no longer
                      </Button>
                    )}
                  </div>
                </td>
              </tr>,
            ];
          })}
        </tbody>
      </table>
      {shown.length === 0 && (
        <p className="small">No tool is like that. Clear a field, or make a new tool.</p>
      )}
    </section>
  );
}
