import { useMemo, useState } from "react";

/** So many lines are added whenever the end of what is shown comes near. */
const MORE = 400;

/** The text of a program, longer and longer as it is scrolled, to its end. */
export function ProgramText({ text }: { text: string }) {
  const lines = useMemo(() => text.replace(/\n$/, "").split("\n"), [text]);
  const [count, show] = useState(MORE);
  return (
    <>
      <pre
        className="program"
        aria-label="Program text"
        tabIndex={0}
        onScroll={(e) => {
          const { scrollTop, clientHeight, scrollHeight } = e.currentTarget;
          if (scrollTop + 2 * clientHeight > scrollHeight && count < lines.length) show(count + MORE);
        }}
      >
        {lines.slice(0, count).join("\n")}
      </pre>
      <p className="small">
        {count < lines.length
          ? `Lines 1 to ${count} of ${lines.length}; scroll for more.`
          : `${lines.length} lines.`}
      </p>
    </>
  );
}
