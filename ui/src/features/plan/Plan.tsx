import { useProof } from "../../api/hooks";
import { isRound } from "../../api/traits";
import type { Tool } from "../../api/types";
import { useShared } from "../../session/context";
import { Failure } from "../../session/Failure";
import { Unconfirmed } from "../../picks/Unconfirmed";
import { freshOperation } from "../../session/fresh";
import { offsetOf } from "../../session/machines";
import { standing } from "../../session/sides";
import { useChosen } from "../../session/store";
import { AddToPlan } from "./AddToPlan";
import { lacking } from "./lacking";
import { Marked, Paste } from "./Marked";
import { repeatOf, repeatWords } from "./operations";

/** The library's first tool of the kinds that a strategy works with, with a number that is free in the job. */
function fromLibrary(mine: Tool[], shelf: Tool[], kinds: Tool["kind"][]): Tool {
  const found = shelf.find((t) => kinds.includes(t.kind));
  if (!found) return mine[0];
  const taken = new Set(mine.map((t) => t.number));
  let number = found.number;
  while (taken.has(number)) number++;
  return { ...found, number };
}

/** The operation sheet: every setup with its operations in machining order. */
export function PlanSheet() {
  const { document, library, editing } = useShared();
  const { setup, set } = useChosen("setup", "set");
  const add = (strategy: string) => {
    const info = library.strategies.find((s) => s.id === strategy)!;
    const chosen = document.setups[setup] ?? document.setups[0];
    const taken = new Set(chosen.operations.map((o) => o.name));
    let name = info.title;
    for (let n = 2; taken.has(name); n++) name = `${info.title} ${n}`;
    const index = document.setups.indexOf(chosen);
    const fitting = document.tools.filter((t) => info.kinds.includes(t.kind));
    const ball = fitting.find((t) => t.kind === "ball" || t.kind === "taper_ball");
    const flat = fitting.find((t) => t.kind === "flat" || t.kind === "corner");
    const wanted = info.finishes ? (ball ?? flat) : (flat ?? ball);
    const own = isRound(info) ? fitting.find((t) => t.kind === info.kinds[0]) : undefined;
    const tool = own ?? wanted ?? fitting[0] ?? fromLibrary(document.tools, library.tools, info.kinds);
    editing.edit((d) => {
      if (!d.tools.some((t) => t.number === tool.number)) d.tools.push(structuredClone(tool));
      d.setups[index].operations.push(freshOperation(name, strategy, tool.number));
    });
    set({ setup: index, operation: chosen.operations.length });
  };
  if (document.setups.length === 0) return <p>First add a setup (station 2).</p>;
  return (
    <>
      <h2>Plan</h2>
      {document.setups.map((s, i) => (
        <SetupPlan key={s.name} index={i} />
      ))}
      <Marked />
      <Paste />
      <AddToPlan add={add} />
    </>
  );
}

function SetupPlan({ index }: { index: number }) {
  const { document, library, state, editing } = useShared();
  const { setup, operation, marked, set } = useChosen("setup", "operation", "marked", "set");
  const doc = document.setups[index];
  const strategyOf = (id: string) => library.strategies.find((s) => s.id === id);
  const madeUp = (number: number) => document.tools.find((t) => t.number === number)?.to_check;
  const proved = state?.releases.find((r) => r.setup === doc.name && r.state === "ready");
  const facts = useProof(proved?.key).data;
  const stopsOf = (name: string) =>
    (facts?.findings ?? []).filter((f) => f.severity === "stop" && f.operation === name);
  const sideFacts = (name: string | null | undefined) =>
    standing(state?.setups[index]?.sides?.find((s) => s.name === name)?.joints);
  const mark = (name: string) => {
    const mine = setup === index ? marked : [];
    const next = mine.includes(name) ? mine.filter((n) => n !== name) : [...mine, name];
    set({ setup: index, marked: doc.operations.map((o) => o.name).filter((n) => next.includes(n)) });
  };
  const move = (from: number, to: number) => {
    if (to < 0 || to >= doc.operations.length) return;
    editing.edit((d) => {
      const list = d.setups[index].operations;
      list.splice(to, 0, ...list.splice(from, 1));
    });
    set({ operation: to });
  };
  // what is dropped among the operations of a side is made from it
  const drop = (from: number, to: number) => {
    const side = doc.operations[to]?.side ?? null;
    editing.edit((d) => {
      const list = d.setups[index].operations;
      const [own] = list.splice(from, 1);
      if (!own) return;
      own.side = side;
      list.splice(to, 0, own);
    });
    set({ setup: index, operation: to });
  };
  const sided = (doc.sides ?? []).length > 0;
  return (
    <table className="plan" aria-label={`Operations of ${doc.name}`}>
      <caption style={{ textAlign: "left", fontWeight: 600, padding: "6px 0 3px" }}>
        {index + 1}. {[doc.name, offsetOf(document, library, doc)].filter(Boolean).join(", ")}
      </caption>
      <thead>
        <tr>
          <th>
            <span className="unseen">Marked</span>
          </th>
          <th>No.</th>
          <th>Operation</th>
          <th>Tool</th>
          <th className="num">Speed</th>
          <th className="num">Feed</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        {doc.operations.map((o, k) => {
          const facts = state?.setups[index]?.operations[k];
          const chosen = setup === index && operation === k;
          const repeat = repeatOf(doc, o.name);
          const lacks = o.enabled ? lacking(o, strategyOf(o.strategy)) : "";
          const standing = o.enabled ? (facts?.state ?? "new") : "off";
          const fault = o.enabled && facts?.state === "failed" ? facts.error : undefined;
          const row = (
            <tr
              key={o.name}
              className={`${chosen ? "chosen" : ""} ${o.enabled ? "" : "off"}`}
              draggable
              onDragStart={(e) => e.dataTransfer.setData("text/plain", String(k))}
              onDragOver={(e) => e.preventDefault()}
              onDrop={(e) => drop(Number(e.dataTransfer.getData("text/plain")), k)}
              onClick={() => set({ setup: index, operation: k })}
              onKeyDown={(e) => {
                if (e.altKey && e.key === "ArrowUp") move(k, k - 1);
                if (e.altKey && e.key === "ArrowDown") move(k, k + 1);
                if (e.key === "Enter") set({ setup: index, operation: k });
              }}
              tabIndex={0}
              aria-selected={chosen}
            >
              <td onClick={(e) => e.stopPropagation()}>
                <input
                  type="checkbox"
                  aria-label={`Mark ${o.name}`}
                  checked={setup === index && marked.includes(o.name)}
                  onChange={() => mark(o.name)}
                />
              </td>
              <td>
                {index + 1}.{k + 1}
              </td>
              <td>
                {o.name}
                {repeat && <div className="small">{repeatWords(repeat)}</div>}
              </td>
              <td>
                T{o.tool}
                {madeUp(o.tool) && (
                  <div className="small check" style={{ whiteSpace: "nowrap" }}>
                    to confirm
                  </div>
                )}
              </td>
              <td className="num">{facts?.spindle_rpm.toFixed(0)}</td>
              <td className="num">{facts?.feed_mm_min.toFixed(0)}</td>
              <td>
                <span className={`state ${fault ? "wrong" : standing}`}>
                  {standing === "new" ? "not computed" : standing}
                </span>
              </td>
            </tr>
          );
          const opens = sided && (k === 0 || (doc.operations[k - 1].side ?? null) !== (o.side ?? null));
          return [
            opens && (
              <tr key={`${o.name}: side`} className="side">
                <th colSpan={7} scope="rowgroup">
                  {o.side ?? "From above"}
                  <span className="small"> {sideFacts(o.side)}</span>
                </th>
              </tr>
            ),
            row,
            lacks && (
              <tr key={`${o.name}: lacking`} className="failure">
                <td colSpan={7} className="small check">
                  {lacks}
                </td>
              </tr>
            ),
            o.unconfirmed && (
              <tr key={`${o.name}: use`} className="failure">
                <td colSpan={7}>
                  <Unconfirmed index={index} operation={o} />
                </td>
              </tr>
            ),
            ...stopsOf(o.name).map((stop, n) => (
              <tr key={`${o.name}: stop ${n}`} className="failure">
                <td colSpan={7}>
                  <div className="problem wrong">
                    The proof stops: {stop.words} {stop.remedy}
                  </div>
                </td>
              </tr>
            )),
            fault && (
              <tr key={`${o.name}: failure`} className="failure">
                <td colSpan={7}>
                  <Failure fault={fault} here />
                </td>
              </tr>
            ),
          ];
        })}
      </tbody>
    </table>
  );
}
