import { Button } from "@mantine/core";
import { Follows, shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";
import { machinesOf, offsetOf } from "../../session/machines";
import { useChosen } from "../../session/store";
import { useWaysUp } from "../../api/hooks";
import { fresh, remove } from "../../session/changes";
import { upOf } from "./WaysUp";

/** How a setup's state is shown: one that waits for the setup before is no fault. */
const STATES: Record<string, string> = { ready: "ready", wrong: "wrong", waits: "stale", stale: "stale" };

/** The setups of the job, one row each. */
export function SetupSheet() {
  const { id, document, state, editing, library } = useShared();
  const ways = useWaysUp(id, state?.part.state === "ready" ? state.part.key : undefined).data;
  const { setup, set } = useChosen("setup", "set");
  const chosen = Math.min(setup, document.setups.length - 1);
  const facts = state?.setups[chosen];
  return (
    <>
      <h2>Setups</h2>
      {document.setups.length === 0 ? (
        <p>No setup yet: add one to say which way is up, in which stock, on which machine.</p>
      ) : (
        <table className="plan" aria-label="Setups">
          <thead>
            <tr>
              <th>No.</th>
              <th>Setup</th>
              <th>Machine</th>
              <th>Offset</th>
              <th>State</th>
            </tr>
          </thead>
          <tbody>
            {document.setups.map((s, i) => (
              <tr
                key={s.name}
                className={i === chosen ? "chosen" : ""}
                onClick={() => set({ setup: i, operation: null })}
              >
                <td>{i + 1}</td>
                <td>{s.name}</td>
                <td>{machinesOf(document, library).find((m) => m.id === s.machine)?.name ?? s.machine}</td>
                <td>{offsetOf(document, library, s) ?? "none"}</td>
                <td>
                  <span className={`state ${STATES[state?.setups[i]?.state ?? "stale"]}`}>
                    {state?.setups[i]?.state ?? "ready"}
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div style={{ display: "flex", gap: 8, margin: "12px 0" }}>
        <Button
          disabled={
            !document.part || (document.setups.length === 0 && state?.part.state === "ready" && !ways)
          }
          onClick={() => {
            const best = ways?.[0] && upOf(ways[0]);
            editing.edit((d) => void d.setups.push(fresh(d.setups, best)));
            set({ setup: document.setups.length });
          }}
        >
          Add a setup
        </Button>
        {document.setups.length > 0 && (
          <Button variant="subtle" color="gray" onClick={() => editing.edit((d) => remove(d, chosen))}>
            Remove
          </Button>
        )}
      </div>
      {!document.part && <p className="small">First give the job a part (station 1).</p>}
      {facts?.error && (
        <div className={facts.state === "waits" ? "problem" : "problem wrong"} role="alert">
          {facts.error.what} {facts.error.remedy}
        </div>
      )}
      {facts?.stock && <SetupFacts index={chosen} />}
    </>
  );
}

function SetupFacts({ index }: { index: number }) {
  const { document, state, library } = useShared();
  const facts = state!.setups[index];
  const machine = machinesOf(document, library).find((m) => m.id === document.setups[index].machine);
  const travels = ["X", "Y", "Z"].flatMap((letter) => machine?.joints.find((j) => j.letter === letter) ?? []);
  const u = document.units;
  const { min, max } = facts.stock!;
  const size = max.map((v, i) => shownLength(v - min[i], u)).join(" x ");
  return (
    <>
      <h3>Results</h3>
      {facts.moved && <Follows label="The part" value={facts.moved} />}
      {facts.copies && facts.copies.length > 1 && (
        <Follows label="Parts in the blank" value={String(facts.copies.length)} />
      )}
      <Follows label="Stock" value={size} />
      {["X", "Y", "Z"].map((axis, i) => (
        <Follows
          key={axis}
          label={`Stock along ${axis}`}
          value={`${shownLength(min[i], u)} to ${shownLength(max[i], u)}`}
        />
      ))}
      <Follows
        label="Zero above table"
        value={facts.table_from_setup!.map((v) => shownLength(v, u)).join(", ")}
      />
      {machine && travels.length > 0 && (
        <Follows
          label="Travels of the machine"
          value={travels.map((j) => shownLength(j.high! - j.low!, u)).join(" x ")}
        />
      )}
      {machine?.joints
        .filter((j) => j.kind === "rotary")
        .map((j) => (
          <Follows
            key={j.name}
            label={`Range of ${j.letter || j.name}`}
            value={j.low === null || j.high === null ? "without end" : `${j.low}° to ${j.high}°`}
          />
        ))}
    </>
  );
}
