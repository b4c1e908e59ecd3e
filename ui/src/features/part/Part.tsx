import { Button, FileButton } from "@mantine/core";
import { useState } from "react";
import { ChoiceField, Follows, PlainField, shownLength, SwitchField } from "../../forms/fields";
import { useShared } from "../../session/context";
import { FeatureList } from "../../picks/Features";
import { HoleList } from "../../picks/Holes";
import { Bodies } from "./Bodies";
import { useSession } from "../../session/store";
import { isOpen } from "../../session/runs";

/** The model file, what was found in it and what is wrong with it. */
export function PartSheet() {
  const { document, state, editing, runs } = useShared();
  const [over, setOver] = useState(false);
  const part = state?.part;
  const run = runs.find((r) => r.target === "part");
  const open = isOpen(run);
  const take = (file: File | null | undefined) => file && editing.upload(file);
  const units = document.units;
  return (
    <>
      <h2>Part</h2>
      <div
        role="group"
        aria-label="Drop area"
        className={`drop ${over ? "over" : ""}`}
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          take(e.dataTransfer.files[0]);
        }}
      >
        {document.part ? (
          <b>{document.part.file.split("/").pop()}</b>
        ) : (
          "Drop the solid model here (STEP or STL), or"
        )}
        <div style={{ marginTop: 8 }}>
          <FileButton onChange={take} inputProps={{ "aria-label": "Model file" }}>
            {(props) => (
              <Button variant={document.part ? "default" : "filled"} {...props}>
                {document.part ? "Another file" : "Choose a file"}
              </Button>
            )}
          </FileButton>
        </div>
      </div>
      {document.part && !open && part?.state === "unread" && (
        <div style={{ marginTop: 10 }}>
          <Button onClick={() => editing.start("part")}>Read the part</Button>
        </div>
      )}
      {!open && <Bodies />}
      {part?.state === "ready" && (
        <>
          <h3>Model</h3>
          <Follows label="Kind" value={part.kind === "brep" ? "solid with exact surfaces" : "triangles"} />
          <Follows label="Solids in the file" value={String(part.solids)} />
          <Follows label="Faces, edges" value={`${part.faces}, ${part.edges}`} />
          <Follows label="Size" value={part.size!.map((v) => shownLength(v, units)).join(" x ")} />
          <Follows
            label="Volume"
            value={
              units === "inch"
                ? `${(part.volume_mm3! / 16387.064).toFixed(3)} in³`
                : `${(part.volume_mm3! / 1000).toFixed(3)} cm³`
            }
          />
          <Follows label="Unit of the file" value={part.file_unit!} />
          {part.problems!.map((p) => (
            <div key={p.what} className={`problem ${p.severity}`}>
              <b>{p.severity}</b>: {p.what} {p.remedy}
            </div>
          ))}
          {part.problems!.length === 0 && <p className="small">Nothing is wrong with the file.</p>}
          <HoleList />
          <FeatureList />
          {document.setups.length === 0 && <p>Next: set it up in stock on a machine (station 2).</p>}
        </>
      )}
    </>
  );
}

export function PartCard() {
  const { document, state, editing, faces } = useShared();
  const picks = useSession((s) => s.picks);
  const face = picks.length ? faces[picks[picks.length - 1].face - 1] : undefined;
  return (
    <>
      <h2>Import settings</h2>
      <ChoiceField
        label="Shown in"
        value={document.units}
        data={[
          { value: "mm", label: "millimetres" },
          { value: "inch", label: "inches" },
        ]}
        onSave={(v) => editing.edit((d) => void (d.units = v as "mm" | "inch"))}
      />
      {document.part && (
        <>
          <PlainField
            label="Scale"
            suffix="times"
            value={document.part.scale}
            onSave={(v) =>
              editing
                .edit((d) => void (d.part!.scale = v ?? 1))
                .then((ok) => void (ok && editing.start("part")))
            }
          />
          {state?.part.kind === "mesh" && (
            <div style={{ marginTop: 8 }}>
              <SwitchField
                label="Round facets are round"
                value={document.part.round_facets}
                onSave={(v) =>
                  editing
                    .edit((d) => void (d.part!.round_facets = v))
                    .then((ok) => void (ok && editing.start("part")))
                }
              />
            </div>
          )}
          <div style={{ marginTop: 8 }}>
            <SwitchField
              label="Sew loose faces and repair"
              value={document.part.heal}
              onSave={(v) =>
                editing.edit((d) => void (d.part!.heal = v)).then((ok) => void (ok && editing.start("part")))
              }
            />
          </div>
        </>
      )}
      <h3>Picked face</h3>
      {face ? (
        <>
          <Follows label="Face" value={`${face.id}, ${face.kind}`} />
          {face.radius !== null && (
            <Follows label="Radius" value={shownLength(face.radius, document.units)} />
          )}
          <Follows label="From" value={face.low.map((v) => shownLength(v, document.units)).join(", ")} />
          <Follows label="To" value={face.high.map((v) => shownLength(v, document.units)).join(", ")} />
        </>
      ) : (
        <p className="small">Click a face in the view to measure it, a second one to measure between.</p>
      )}
    </>
  );
}
