import { ActionIcon, Button, Checkbox, Popover, Stack, Text } from "@mantine/core";
import { IconPlayerSkipForward } from "@tabler/icons-react";
import type { ProofFacts } from "../../api/types";
import type { StopKind } from "../../session/stopKinds";
import { useChosen } from "../../session/store";
import { STOPS } from "./stops";

/** At what a replay stops, its end at once, and one operation alone. */
export function Running({ facts }: { facts: ProofFacts }) {
  const { stopsAt, time, set } = useChosen("stopsAt", "time", "set");
  const flip = (kind: StopKind, on: boolean) =>
    set({ stopsAt: on ? [...stopsAt, kind] : stopsAt.filter((k) => k !== kind) });
  const own = facts.program.find((r) => r.begin_s <= time + 1e-6 && time < r.end_s - 1e-6);
  return (
    <>
      <ActionIcon
        size="sm"
        variant="default"
        aria-label="To the end"
        onClick={() => set({ time: facts.time_s, playing: 0, until: null, shown: "replay", step: null })}
      >
        <IconPlayerSkipForward size={14} />
      </ActionIcon>
      <Popover position="top-start" shadow="sm">
        <Popover.Target>
          <Button size="compact-xs" variant="default">
            Stops at{stopsAt.length ? ` (${stopsAt.length})` : ""}
          </Button>
        </Popover.Target>
        <Popover.Dropdown p="xs">
          <Stack gap={6}>
            <Text size="xs">A replay stops at</Text>
            {STOPS.map(({ kind, label }) => (
              <Checkbox
                key={kind}
                size="xs"
                label={label}
                checked={stopsAt.includes(kind)}
                onChange={(e) => flip(kind, e.currentTarget.checked)}
              />
            ))}
          </Stack>
        </Popover.Dropdown>
      </Popover>
      <Button
        size="compact-xs"
        variant="default"
        disabled={!own}
        title={own ? `Runs '${own.name}' from its begin to its end` : undefined}
        onClick={() =>
          own && set({ time: own.begin_s, until: own.end_s, playing: 1, shown: "replay", step: null })
        }
      >
        Operation alone
      </Button>
    </>
  );
}
