import { Button, Checkbox, Popover, SegmentedControl, Stack, Text } from "@mantine/core";
import type { MachineLook } from "../../scene/layers/machine";
import { useMachine } from "./useMachine";
import { useChosen } from "../../session/store";

const LOOKS: { value: MachineLook; label: string }[] = [
  { value: "hidden", label: "Hidden" },
  { value: "seen", label: "Seen" },
  { value: "through", label: "See-through" },
  { value: "base", label: "Base only" },
];

interface Props {
  setupName: string;
  /** Whether it stands about a setup that is being set up; else a proof is replayed. */
  standing?: boolean;
}

/** How the machine is drawn, and which of its bodies are seen through. */
export function MachineFields({ setupName, standing = false }: Props) {
  const { faded, toolHidden, turning, set } = useChosen("faded", "toolHidden", "turning", "set");
  const { look, hasBodies, bodies, turns } = useMachine(setupName, standing);
  const drawn = hasBodies && look !== "hidden";
  const names = bodies.map((b) => b.name);
  const fade = (name: string, on: boolean) =>
    set({ faded: on ? [...faded, name] : faded.filter((n) => n !== name) });
  return (
    <>
      {hasBodies && (
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
                onChange={(v) =>
                  set(standing ? { standLook: v as MachineLook } : { machineLook: v as MachineLook })
                }
                data={LOOKS}
              />
              {!standing && (
                <Checkbox
                  size="xs"
                  label="Tool"
                  checked={!toolHidden}
                  onChange={(e) => set({ toolHidden: !e.currentTarget.checked })}
                />
              )}
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
      {!standing && (turns || drawn) && (
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
