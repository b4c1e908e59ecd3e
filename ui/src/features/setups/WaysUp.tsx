import { Button } from "@mantine/core";
import { useState } from "react";
import { useWaysUp } from "../../api/hooks";
import type { Setup, WayUp } from "../../api/types";
import { shownLength } from "../../forms/fields";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";

/** More ways than these are not listed. */
const LISTED = 7;

/** A way up as a setup keeps it. */
export const upOf = (way: WayUp): Setup["up"] => ({
  axis: way.axis as Setup["up"]["axis"],
  face: way.face,
  reverse: false,
});

const nameOf = (way: WayUp) => way.axis ?? `face ${way.face}`;

interface Props {
  setup: Setup;
  edit: (work: (s: Setup) => void) => Promise<boolean>;
}

/** What is reached from the chosen way up, and what would be from others. */
export function WaysUp({ setup, edit }: Props) {
  const { id, document, state, faces } = useShared();
  const { set } = useChosen("set");
  const [open, unfold] = useState(false);
  const ways = useWaysUp(id, state?.part.state === "ready" ? state.part.key : undefined).data;
  if (!ways) return null;
  const isChosen = (way: WayUp) =>
    !setup.up.reverse && way.axis === setup.up.axis && way.face === setup.up.face;
  const chosen = ways.find(isChosen);
  const show = (way: WayUp) =>
    set({
      picks: way.faces.flatMap((face) => (faces[face - 1] ? [{ face, point: faces[face - 1].low }] : [])),
    });
  return (
    <div role="group" aria-label="Ways up">
      {chosen && (
        <p className="small">
          Reached from here: {chosen.words}.{chosen === ways[0] && " This is the way that is proposed."}
        </p>
      )}
      <div className="buttons">
        {chosen && (
          <Button size="compact-xs" variant="subtle" onClick={() => show(chosen)}>
            Show the faces reached
          </Button>
        )}
        <Button size="compact-xs" variant="subtle" aria-expanded={open} onClick={() => unfold(!open)}>
          {open ? "Fewer ways up" : "Other ways up"}
        </Button>
      </div>
      {open && (
        <table className="plan" aria-label="Ways up">
          <thead>
            <tr>
              <th>Up</th>
              <th className="num">Surface</th>
              <th className="num">Features</th>
              <th className="num">Height</th>
            </tr>
          </thead>
          <tbody>
            {ways.slice(0, LISTED).map((way) => (
              <tr
                key={nameOf(way)}
                className={isChosen(way) ? "chosen" : ""}
                title={way.words}
                tabIndex={0}
                onClick={() => edit((s) => void (s.up = upOf(way)))}
                onKeyDown={(e) => e.key === "Enter" && edit((s) => void (s.up = upOf(way)))}
              >
                <td>{nameOf(way)}</td>
                <td className="num">{(100 * way.surface).toFixed(0)} %</td>
                <td className="num">{way.holes + way.features}</td>
                <td className="num">{shownLength(Math.round(way.height * 10) / 10, document.units)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
