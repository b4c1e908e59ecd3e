import { Button } from "@mantine/core";
import { useEffect, useRef, useState } from "react";
import { useChosen, useSession } from "../../session/store";

const PICTURES = 25;
const KINDS = ["video/webm;codecs=vp9", "video/webm;codecs=vp8", "video/webm"];

/** Records the view from this moment on, until the replay stands still, as a WebM file. */
export function Film({ name }: { name: string }) {
  const { playing, set } = useChosen("playing", "set");
  const recorder = useRef<MediaRecorder | null>(null);
  const [recording, setRecording] = useState(false);
  const begin = () => {
    const canvas = window.document.querySelector<HTMLCanvasElement>("main.view canvas");
    if (!canvas) return;
    const kind = KINDS.find((k) => MediaRecorder.isTypeSupported(k));
    const made = new MediaRecorder(canvas.captureStream(PICTURES), kind ? { mimeType: kind } : undefined);
    const pieces: BlobPart[] = [];
    const from = useSession.getState().time;
    made.ondataavailable = (e) => e.data.size && pieces.push(e.data);
    made.onstop = () => {
      const to = useSession.getState().time;
      save(new Blob(pieces, { type: "video/webm" }), `${name}_${from.toFixed(0)}-${to.toFixed(0)}s.webm`);
    };
    made.start(500);
    recorder.current = made;
    setRecording(true);
    set({ playing: 1, shown: "replay", step: null });
  };
  useEffect(() => {
    if (playing !== 0 || !recorder.current) return;
    // the last picture is drawn before the film ends
    const timer = setTimeout(() => {
      recorder.current?.stop();
      recorder.current = null;
      setRecording(false);
    }, 300);
    return () => clearTimeout(timer);
  }, [playing]);
  // whoever leaves the proof takes along what is filmed so far
  useEffect(() => () => recorder.current?.stop(), []);
  return (
    <Button
      size="compact-xs"
      variant={recording ? "filled" : "default"}
      title="Records what the view shows, from this moment until the replay stops"
      onClick={() => (recording ? set({ playing: 0 }) : begin())}
    >
      {recording ? "End the film" : "Film"}
    </Button>
  );
}

function save(blob: Blob, name: string) {
  const link = window.document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
