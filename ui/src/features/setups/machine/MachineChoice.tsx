import { Button, FileButton, Select } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { request, send } from "../../../api/client";
import { entering, tell } from "../../../api/hooks";
import type { Machine, Setup } from "../../../api/types";
import { useShared } from "../../../session/context";
import { machinesOf } from "../../../session/machines";
import { OwnMachine } from "./OwnMachine";
import { takeIn } from "./own";

const KEPT = ["shop-machines"];

interface Props {
  index: number;
  setup: Setup;
}

/** The machine of a setup: of the job, of the shop, of the library; and what makes it the shop's own. */
export function MachineChoice({ index, setup }: Props) {
  const { id, document, editing, library } = useShared();
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const kept = useQuery({
    queryKey: KEPT,
    queryFn: () => request<{ id: number; item: Machine }[]>("/shop/machines"),
  });
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
      return await take(await send<Machine>("POST", `/shop/machines/${value.slice(5)}/into/${id}`));
    } catch (error) {
      tell(error);
    }
  };
  const groups = [
    { group: "Of this job", items: (document.machines ?? []).map((m) => ({ value: m.id, label: m.name })) },
    {
      group: "Kept by the shop",
      items: (kept.data ?? []).map(({ id: k, item }) => ({ value: `shop/${k}`, label: item.name })),
    },
    {
      group: "Comes with Fenrik",
      items: library.machines.map((m) => ({ value: m.id, label: m.name })),
    },
  ].filter((g) => g.items.length > 0);
  const again = () => client.invalidateQueries({ queryKey: KEPT });
  const keep = () => send("POST", `/shop/machines/of/${id}`, { name: own!.name }).then(again).catch(tell);
  const mine = kept.data?.find(({ item }) => item.name === own?.name);
  const drop = () => send("DELETE", `/shop/machines/${mine!.id}`).then(again).catch(tell);
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
          <Button size="compact-xs" variant="default" onClick={keep}>
            Keep for later jobs
          </Button>
        )}
        {mine && (
          <Button size="compact-xs" variant="subtle" color="gray" onClick={drop}>
            Keep no longer
          </Button>
        )}
        <FileButton multiple onChange={read} accept=".urdf,.xml,.stl,.step,.stp">
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
