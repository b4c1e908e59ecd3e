import { Button, FileButton } from "@mantine/core";
import { send } from "../../api/client";
import { tell } from "../../api/hooks";
import { useShared } from "../../session/context";
import { freshRelease } from "../../session/fresh";
import { useChosen } from "../../session/store";
import { implied } from "./implied";

/** Takes a program that was written elsewhere as a release of its own, for the setup that is chosen. */
export function FromElsewhere() {
  const { document, state, id, editing } = useShared();
  const { release: index, set } = useChosen("release", "set");
  const setup = state?.releases[index]?.setup ?? document.setups[0]?.name;
  const take = async (file: File | null) => {
    if (!file || !setup) return;
    const body = new FormData();
    body.append("file", file);
    try {
      const stored = await send<string>("POST", `/jobs/${id}/programs`, body);
      const name = freeName(
        stored,
        [...document.releases, ...(state?.releases ?? [])].map((r) => r.name),
      );
      const made = await editing.edit((d) => {
        if (d.releases.length === 0) d.releases = implied(state?.releases ?? []);
        d.releases.push({ ...freshRelease(name, setup, "plain_iso", 1), file: stored });
      });
      if (made) {
        set({ release: state?.releases.length ?? 0, time: 0, step: null });
        editing.start("prove");
      }
    } catch (error) {
      tell(error);
    }
  };
  return (
    <FileButton onChange={take} inputProps={{ "aria-label": "Program file" }}>
      {(props) => (
        <Button variant="subtle" size="compact-xs" {...props}>
          Prove a program from elsewhere
        </Button>
      )}
    </FileButton>
  );
}

/** A release's name after a file, a number behind it where there is one of that name. */
function freeName(file: string, taken: string[]) {
  const stem = file.replace(/\.[^.]*$/, "").replace(/[^A-Za-z0-9_.-]+/g, "_");
  const first = /^[A-Za-z0-9]/.test(stem) ? stem.slice(0, 50) : `program_${stem}`.slice(0, 50);
  let name = first;
  for (let n = 2; taken.includes(name); n++) name = `${first}_${n}`;
  return name;
}
