import type { PostOptions } from "../../api/types";
import { ChoiceField, PlainField } from "../../forms/fields";

const OPEN = "open";

type Choice = { key: keyof PostOptions; label: string; choices: [string, string][] };
const YES_NO: [string, string][] = [
  ["true", "Yes"],
  ["false", "No"],
];

/** What a dialect settles and a release may ask for otherwise. */
const CHOICES: Choice[] = [
  {
    key: "line_numbers",
    label: "Block numbers",
    choices: [
      ["all", "In every block"],
      ["tool", "At tool changes"],
      ["none", "None"],
    ],
  },
  { key: "optional_stop", label: "Optional stop, M1", choices: YES_NO },
  { key: "preload", label: "Call up the next tool", choices: YES_NO },
  { key: "restart", label: "Restart at each tool", choices: YES_NO },
  {
    key: "arcs",
    label: "Arcs",
    choices: [
      ["centre", "By centre"],
      ["radius", "By radius"],
    ],
  },
  {
    key: "circles",
    label: "Full circles",
    choices: [
      ["whole", "In one block"],
      ["halves", "In two halves"],
    ],
  },
  {
    key: "holes",
    label: "Holes",
    choices: [
      ["canned", "Canned cycles"],
      ["moves", "Plain moves"],
    ],
  },
  {
    key: "comments",
    label: "Comments",
    choices: [
      ["all", "All"],
      ["tools", "Without operations"],
      ["none", "None"],
    ],
  },
  {
    key: "word_spacing",
    label: "Words",
    choices: [
      ["true", "Spaced"],
      ["false", "Without spaces"],
    ],
  },
];

/** Of these, what an arm's program has. */
const OF_AN_ARM = ["comments"];

interface Props {
  options: PostOptions;
  arm: boolean;
  onSave: (options: PostOptions) => void;
}

/** How a release wants its text, where that differs from its dialect. */
export function Options({ options, arm, onSave }: Props) {
  const put = (key: keyof PostOptions, value: unknown) => onSave({ ...options, [key]: value });
  const given = (text: string) =>
    text === OPEN ? null : text === "true" || text === "false" ? text === "true" : text;
  return (
    <>
      <h3>Text</h3>
      <div className="two">
        {CHOICES.filter(({ key }) => !arm || OF_AN_ARM.includes(key)).map(({ key, label, choices }) => (
          <ChoiceField
            key={key}
            label={label}
            value={String(options[key] ?? OPEN)}
            data={[
              { value: OPEN, label: "As the dialect" },
              ...choices.map(([value, words]) => ({ value, label: words })),
            ]}
            onSave={(v) => put(key, given(v))}
          />
        ))}
        <ChoiceField
          label="Coolant"
          value={options.coolant ?? "planned"}
          data={[
            { value: "planned", label: "As planned" },
            { value: "off", label: "Off, a dry run" },
          ]}
          onSave={(v) => put("coolant", v)}
        />
        {!arm && <BlockNumbers options={options} put={put} />}
      </div>
      {!arm && <Ways options={options} put={put} />}
    </>
  );
}

interface Part {
  options: PostOptions;
  put: (key: keyof PostOptions, value: unknown) => void;
}

function BlockNumbers({ options, put }: Part) {
  return (
    <>
      <PlainField
        label="First block number"
        suffix="N"
        placeholder="As the dialect"
        value={options.line_number_start ?? null}
        onSave={(v) => put("line_number_start", v)}
      />
      <PlainField
        label="Block number step"
        suffix=""
        placeholder="As the dialect"
        value={options.line_number_step ?? null}
        onSave={(v) => put("line_number_step", v)}
      />
    </>
  );
}

function Ways({ options, put }: Part) {
  return (
    <>
      <h3>Moves between cuts</h3>
      <div className="two">
        <PlainField
          label="Rapids at a feed of"
          suffix="mm/min"
          placeholder="Rapid, G0"
          why="Straight moves at this feed, for machines whose rapid moves are not straight."
          value={options.rapid_feed_mm_min ?? null}
          onSave={(v) => put("rapid_feed_mm_min", v)}
        />
        <ChoiceField
          label="Between operations"
          value={options.between ?? "clearance"}
          data={[
            { value: "clearance", label: "Over the clearance height" },
            { value: "home", label: "By the upper end of Z" },
          ]}
          onSave={(v) => put("between", v)}
        />
        <PlainField
          label="Proved again with wear of"
          suffix="mm"
          placeholder="0.05"
          why="Where the control corrects the cutter's radius, the program is proved a second time with tools worn by this, and the control told so. 0: it is not."
          value={options.wear_mm ?? 0.05}
          onSave={(v) => put("wear_mm", v ?? 0.05)}
        />
      </div>
    </>
  );
}
