import { Modal, TextInput } from "@mantine/core";
import { useState } from "react";
import { STATIONS, useShared } from "../session/context";
import { useSession } from "../session/store";

interface Entry {
  words: string;
  keys?: string;
  run: () => void;
}

function useEntries(): Entry[] {
  const { go, editing, document, state } = useShared();
  const set = useSession((s) => s.set);
  const stations = STATIONS.map((s, i) => ({
    words: `Go to ${s[0].toUpperCase() + s.slice(1)}`,
    keys: String(i + 1),
    run: () => go(s),
  }));
  const operations = document.setups.flatMap((s, i) =>
    s.operations.map((o, k) => ({
      words: `Operation: ${o.name} (${s.name})`,
      run: () => {
        set({ setup: i, operation: k });
        go("plan");
      },
    })),
  );
  const tools = document.tools.map((t) => ({
    words: `Tool ${t.number}: ${t.name}`,
    run: () => {
      set({ tool: t.number });
      go("tools");
    },
  }));
  return [
    ...stations,
    { words: "Compute the plan", run: () => editing.start("plan") },
    { words: "Prove the releases", run: () => editing.start("prove") },
    { words: "Undo", keys: "Ctrl+Z", run: () => editing.move("undo") },
    { words: "Redo", keys: "Ctrl+Y", run: () => editing.move("redo") },
    ...(state?.part.state === "ready" ? [] : [{ words: "Read the part", run: () => editing.start("part") }]),
    ...operations,
    ...tools,
  ];
}

/** Reaches everything by name (Ctrl+K). */
export function Palette({ opened, close }: { opened: boolean; close: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const entries = useEntries().filter((e) => e.words.toLowerCase().includes(text.toLowerCase()));
  const leave = () => {
    setText("");
    setAt(0);
    close();
  };
  const run = (entry: Entry | undefined) => {
    leave();
    entry?.run();
  };
  return (
    <Modal opened={opened} onClose={leave} withCloseButton={false} padding={10} yOffset={90}>
      <TextInput
        data-autofocus
        aria-label="Command"
        placeholder="What do you want to do?"
        value={text}
        onChange={(e) => {
          setText(e.currentTarget.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt(Math.min(at + 1, entries.length - 1));
          if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
          if (e.key === "Enter") run(entries[at]);
        }}
      />
      <table className="plan" aria-label="Commands">
        <tbody>
          {entries.slice(0, 14).map((entry, i) => (
            <tr key={entry.words} className={i === at ? "chosen" : ""} onClick={() => run(entry)}>
              <td>{entry.words}</td>
              <td className="num small">{entry.keys}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}

const KEYS = [
  ["1 to 6", "stations"],
  ["Ctrl+K", "everything by name"],
  ["Ctrl+Z, Ctrl+Y", "undo, redo"],
  ["Space", "play or pause (Prove)"],
  ["Left, Right", "a step back or on (on the run strip); with Shift a longer one"],
  ["Esc", "let go of picks"],
  ["?", "this list"],
];

export function Shortcuts({ opened, close }: { opened: boolean; close: () => void }) {
  return (
    <Modal opened={opened} onClose={close} title="Keys">
      <table className="plan">
        <tbody>
          {KEYS.map(([keys, words]) => (
            <tr key={keys}>
              <td>{keys}</td>
              <td>{words}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}
