import { Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import type { JobDocument, Tool } from "../../api/types";
import { shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";
import { blankTool, freeNumber } from "./kinds";
import { Shelf } from "./Shelf";

/** The operations that use a tool, as they are named. */
const usesOf = (document: JobDocument, number: number) =>
  document.setups.flatMap((s) => s.operations.filter((o) => o.tool === number).map((o) => o.name));

/** The tools of the job, and the shelf to take more from. */
export function ToolSheet() {
  const { document, editing } = useShared();
  const { tool, drafts, set } = useChosen("tool", "drafts", "set");
  const add = async (source: Tool) => {
    const number = freeNumber(source.number, document.tools);
    if (await editing.edit((d) => void d.tools.push({ ...structuredClone(source), number })))
      set({ tool: number });
  };
  return (
    <>
      <h2>Tools</h2>
      {document.tools.length === 0 ? (
        <p>No tool yet: add one from the shelf below, or let a whole plan bring its own.</p>
      ) : (
        <table className="plan" aria-label="Tools">
          <thead>
            <tr>
              <th>No.</th>
              <th>Tool</th>
              <th className="num">Ø</th>
              <th className="num">Corner</th>
              <th className="num">Stick-out</th>
              <th>Use</th>
            </tr>
          </thead>
          <tbody>
            {[...document.tools]
              .sort((a, b) => a.number - b.number)
              .map((t) => (
                <tr
                  key={t.number}
                  className={t.number === tool ? "chosen" : ""}
                  aria-selected={t.number === tool}
                  tabIndex={0}
                  onClick={() => set({ tool: t.number })}
                  onKeyDown={(e) => e.key === "Enter" && set({ tool: t.number })}
                >
                  <td>T{t.number}</td>
                  <td>
                    {t.name}
                    {t.to_check && <div className="small check">made up: lengths and holder to confirm</div>}
                    {drafts[t.number] && <div className="small check">a draft, not saved yet</div>}
                  </td>
                  <td className="num">{shownLength(t.diameter, document.units)}</td>
                  <td className="num">
                    {t.corner_radius ? shownLength(t.corner_radius, document.units) : ""}
                  </td>
                  <td className="num">{shownLength(t.stick_out, document.units)}</td>
                  <td className="small">{usesOf(document, t.number).length ? "used" : ""}</td>
                </tr>
              ))}
          </tbody>
        </table>
      )}
      <div className="buttons">
        <Button size="compact-xs" variant="default" onClick={() => add(blankTool(1))}>
          New tool
        </Button>
        <ChosenTool add={add} />
      </div>
      <Shelf add={add} />
    </>
  );
}

/** What can be done with the tool that is chosen. */
function ChosenTool({ add }: { add: (tool: Tool) => void }) {
  const { document, editing } = useShared();
  const number = useChosen("tool").tool;
  const client = useQueryClient();
  const tool = document.tools.find((t) => t.number === number);
  if (!tool) return null;
  const uses = usesOf(document, tool.number);
  const keep = () =>
    send("POST", "/shop/tools", tool)
      .then(() => client.invalidateQueries({ queryKey: ["shop-tools"] }))
      .catch(tell);
  return (
    <>
      <Button
        size="compact-xs"
        variant="default"
        onClick={() => add({ ...tool, name: `${tool.name}, copy`.slice(0, 80) })}
      >
        Duplicate T{tool.number}
      </Button>
      <Button size="compact-xs" variant="default" onClick={keep}>
        Keep T{tool.number} for later jobs
      </Button>
      <Button
        size="compact-xs"
        variant="subtle"
        color="gray"
        disabled={uses.length > 0}
        onClick={() => editing.edit((d) => void (d.tools = d.tools.filter((t) => t.number !== tool.number)))}
      >
        Remove T{tool.number}
      </Button>
      {uses.length > 0 && (
        <span className="small">
          T{tool.number} cannot be removed: used by {uses.slice(0, 3).join(", ")}
          {uses.length > 3 && ` and ${uses.length - 3} more`}.
        </span>
      )}
    </>
  );
}
