import { Button, FileButton, Select } from "@mantine/core";
import { useState } from "react";
import { send } from "../../../api/client";
import { entering, tell } from "../../../api/hooks";
import type { Machine, Setup } from "../../../api/types";
import { useShared } from "../../../session/context";
import { machinesOf } from "../../../session/machines";
import { useKeptItems } from "../../../session/keptItems";
import { OwnMachine } from "./OwnMachine";
import { takeIn } from "./own";

interface Props {
  index: number;
  setup: Setup;
}

/** The machine of a setup: of the job, of the shop, of the library; and what makes it the shop's own. */
export function MachineChoice({ index, setup }: Props) {
  const { id, document, editing, library } = useShared();
  const [open, setOpen] = useState(false);
  const kept = useKeptItems<Machine>("machines");
  const own = (document.machines ?? []).find((m) => m.id === setup.machine);
  const machine = machinesOf(document, library).find((m) => m.id === setup.machine);
  const take = (made: Machine) =>
    editing.edit((d) => {
      d.setups[index].machine = takeIn(d, made, library.machines);
    });
  const choose = async (value: string) => {
    if (!value.startsWith("shop/"))
      return editing.edit((d) => {
        d.setups[index].machine = value;
      });
    try {
      return await take(await kept.take(value));
    } catch (error) {
      tell(error);
    }
  };
  const groups = [
    { group: "Of this job", items: (document.machines ?? []).map((m) => ({ value: m.id, label: m.name })) },
    kept.choices,
    {
      group: "Comes with Fenrik",
      items: library.machines.map((m) => ({ value: m.id, label: m.name })),
    },
  ].filter((g) => g.items.length > 0);
  const read = async (files: File[]) => {
    if (!files.length) return;
    const body = new FormData();
    for (const file of files) body.append("files", file);
    try {
      const made = await send<Machine>("POST", `/jobs/${id}/machines/urdf`, body);
      if (await take(made)) editing.start("part");
    } catch (error) {
      tell(error);
    }
  };
  return (
    <div role="group" aria-label="Machine of the setup">
      <Select
        label="Machine"
        data={groups}
        value={setup.machine}
        allowDeselect={false}
        comboboxProps={{ withinPortal: true }}
        onChange={(v) => v && v !== setup.machine && entering(choose(v))}
      />
      <div className="buttons">
        {own ? (
          <Button size="compact-xs" variant="default" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Fold the machine" : "Change the machine"}
          </Button>
        ) : (
          machine && (
            <Button
              size="compact-xs"
              variant="default"
              onClick={() => {
                setOpen(true);
                void take(machine);
              }}
            >
              Make it our own
            </Button>
          )
        )}
        {own && (
          <Button size="compact-xs" variant="default" onClick={() => kept.keep(own.name)}>
            Keep for later jobs
          </Button>
        )}
        {own && kept.has(own.name) && (
          <Button size="compact-xs" variant="subtle" color="gray" onClick={() => kept.drop(own.name)}>
            Keep no longer
          </Button>
        )}
        <FileButton multiple onChange={read} accept=".urdf,.xml,.stl">
          {(props) => (
            <Button size="compact-xs" variant="default" {...props}>
              From URDF
            </Button>
          )}
        </FileButton>
        {machine && (
          <Button
            size="compact-xs"
            variant="default"
            component="a"
            href={`/api/jobs/${id}/machines/${machine.id}/urdf.zip`}
            download
          >
            As URDF
          </Button>
        )}
      </div>
      {own && open && <OwnMachine machine={own} />}
    </div>
  );
}
