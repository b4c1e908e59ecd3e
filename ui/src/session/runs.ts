import type { RunAnswer } from "../api/client";

/** Whether a run waits or is under way. */
export const isOpen = (run: RunAnswer | undefined) => !!run && ["queued", "running"].includes(run.state);
