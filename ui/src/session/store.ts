import { create } from "zustand";
import type { Vec3 } from "../api/types";
import type { Hit } from "../scene/picking";

/** What is selected, picked or played; server data is never copied here. */
interface SessionStore {
  setup: number;
  operation: number | null;
  /** Names of operations of the setup that something is to be done with at once. */
  marked: string[];
  tool: number | null;
  release: number;
  picks: Hit[];
  hover: number | null;
  time: number;
  playing: 0 | 1 | -1;
  speed: number;
  shown: "replay" | "stock" | "deviation";
  step: number | null;
  place: Vec3 | null;
  wanted: ((face: number) => void) | null;
  wantedWords: string;
  /** Corners of the area that is being drawn, in program coordinates; null where none is. */
  drawing: [number, number][] | null;
  set: (values: Partial<SessionStore>) => void;
}

export const useSession = create<SessionStore>((set) => ({
  setup: 0,
  operation: null,
  marked: [],
  tool: null,
  release: 0,
  picks: [],
  hover: null,
  time: 0,
  playing: 0,
  speed: 20,
  shown: "stock",
  step: null,
  place: null,
  wanted: null,
  wantedWords: "",
  drawing: null,
  set,
}));
