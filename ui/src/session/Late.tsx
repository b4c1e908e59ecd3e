import { Button } from "@mantine/core";
import { useLate } from "../api/hooks";
import { useShared } from "./context";
import { differences } from "./differences";

/** Changes that were made here while somebody else changed the job: not saved, to be put on top or dropped. */
export function Late() {
  const { id, editing } = useShared();
  const all = useLate((s) => s.late);
  const late = all.filter((l) => l.job === id);
  if (late.length === 0) return null;
  const drop = () => useLate.setState({ late: all.filter((l) => l.job !== id) });
  const putOnTop = () => {
    drop();
    for (const { change } of late) void editing.edit(change);
  };
  return (
    <div className="late" role="alert" aria-label="Changes not saved">
      <b>Your change is not saved: the job was changed elsewhere meanwhile.</b>
      <ul>
        {late
          .flatMap((l) => differences(l.before, l.after))
          .map((words, i) => (
            <li key={i}>{words}</li>
          ))}
      </ul>
      <p className="small">You see the job as it is now.</p>
      <Button size="compact-xs" onClick={putOnTop}>
        Put my change on top
      </Button>{" "}
      <Button size="compact-xs" variant="default" onClick={drop}>
        Drop it
      </Button>
    </div>
  );
}
