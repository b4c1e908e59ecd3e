import { Button, Checkbox, Popover, SegmentedControl, Stack, Text } from "@mantine/core";
import { useMemo } from "react";
import { useBlob } from "../../api/hooks";
import type { Machine } from "../../api/types";
import { bodiesOf, type MachineLook } from "../../scene/layers/machine";
import { isArm } from "../../session/machines";
import { useShared } from "../../session/context";
import { useChosen } from "../../session/store";

const LOOKS: { value: MachineLook; label: string }[] = [
  { value: "hidden", label: "Hidden" },
  { value: "seen", label: "Seen" },
  { value: "through", label: "See-through" },
  { value: "base", label: "Base only" },
];

/** How the machine is drawn while a proof is replayed, and which of its bodies are seen through. */
export function MachineFields({ machine, setupName }: { machine: Machine; setupName: string }) {
  const { state, id } = useShared();
  const { machineLook, faded, toolHidden, turning, set } = useChosen(
    "machineLook",
    "faded",
    "toolHidden",
    "turning",
    "set",
  );
  const index = state?.setups.findIndex((s) => s.name === setupName) ?? -1;
  const shape = state?.setups[index]?.machine;
  const look = machineLook ?? (isArm(machine) ? "seen" : "hidden");
  const drawn = look !== "hidden" && !!shape;
  const blob = useBlob(drawn ? `/jobs/${id}/setups/${index}/machine/${shape}` : null).data;
  const names = useMemo(() => bodiesOf(drawn ? blob : undefined).map((b) => b.name), [drawn, blob]);
  const turns = machine.joints.some((j) => j.kind === "rotary");
  const fade = (name: string, on: boolean) =>
    set({ faded: on ? [...faded, name] : faded.filter((n) => n !== name) });
  return (
    <>
      {shape && (
        <Popover position="bottom-start" withinPortal={false} shadow="sm">
          <Popover.Target>
            <Button size="compact-xs" variant={drawn ? "filled" : "default"} aria-label="Machine in the view">
              Machine
            </Button>
          </Popover.Target>
          <Popover.Dropdown p="xs" className="machine-looks">
            <Stack gap={6}>
              <SegmentedControl
                size="xs"
                aria-label="Machine drawn"
                value={look}
                onChange={(v) => set({ machineLook: v as MachineLook })}
                data={LOOKS}
              />
              <Checkbox
                size="xs"
                label="Tool"
                checked={!toolHidden}
                onChange={(e) => set({ toolHidden: !e.currentTarget.checked })}
              />
              {names.length > 0 && <Text size="xs">Seen through, one by one</Text>}
              <div className="faded">
                {names.map((name) => (
                  <Checkbox
                    key={name}
                    size="xs"
                    label={name}
                    checked={faded.includes(name)}
                    onChange={(e) => fade(name, e.currentTarget.checked)}
                  />
                ))}
              </div>
            </Stack>
          </Popover.Dropdown>
        </Popover>
      )}
      {(turns || drawn) && (
        <Checkbox
          size="xs"
          label={turns ? "Part turns" : "Part moves"}
          title="The view stands beside the machine; else on the part, about which all else goes"
          checked={turning}
          onChange={(e) => set({ turning: e.currentTarget.checked })}
        />
      )}
    </>
  );
}
