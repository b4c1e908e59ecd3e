import type { Setup } from "../../api/types";

type Zero = Setup["zero"];

interface Props {
  zero: Zero;
  /** Whose zero it is, where there are several. */
  label?: string;
  onTake: (values: Partial<Zero>) => void;
}

/** Which of the points of a box is meant: its height, and its place seen from above. */
export function BoxPoints({ zero, label, onTake }: Props) {
  const of = label ? ` of ${label}` : "";
  const picked = zero.of !== "point";
  return (
    <div style={{ margin: "8px 0" }}>
      <div className="points" role="group" aria-label={`Height of zero${of}`} style={{ marginBottom: 5 }}>
        {(["high", "middle", "low"] as const).map((z) => (
          <button key={z} aria-pressed={picked && zero.z === z} onClick={() => onTake({ z })}>
            {z === "high" ? "top" : z === "low" ? "bottom" : "middle"}
          </button>
        ))}
      </div>
      <div className="points" role="group" aria-label={`Zero seen from above${of}`}>
        {(["high", "middle", "low"] as const).flatMap((y) =>
          (["low", "middle", "high"] as const).map((x) => (
            <button
              key={x + y}
              aria-pressed={picked && zero.x === x && zero.y === y}
              onClick={() => onTake({ x, y })}
            >
              <span aria-hidden>
                {{ low: "−X", middle: "·", high: "+X" }[x]} {{ low: "−Y", middle: "·", high: "+Y" }[y]}
              </span>
              <span className="unseen">{`X ${x}, Y ${y}`}</span>
            </button>
          )),
        )}
      </div>
    </div>
  );
}
