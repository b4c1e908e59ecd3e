import { create } from "zustand";
import { useShallow } from "zustand/react/shallow";
import type { Fault, Finding, Tool, Vec3 } from "../api/types";
import type { MachineLook } from "../scene/layers/machine";
import type { BodyPick } from "../scene/measuring";
import type { StopKind } from "./stopKinds";
import type { PathColour } from "../scene/pathColours";
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
  /** At what a replay stops, and the moment at which it stops once. */
  stopsAt: StopKind[];
  until: number | null;
  /** What the run strip draws over time. */
  traced: "load" | "joints";
  /** Whether a hand is on the run strip. */
  dragging: boolean;
  shown: "replay" | "stock" | "deviation";
  step: number | null;
  /** Whether the replay stands beside the machine, whose part moves; else on the part, about which all else goes. */
  turning: boolean;
  /** How the machine is drawn; null: an arm is seen, any other machine hidden. */
  machineLook: MachineLook | null;
  /** Bodies of the machine that are seen through one by one, and whether the tool is left out. */
  faded: string[];
  toolHidden: boolean;
  /** How the machine is drawn about a setup that is being set up. */
  standLook: MachineLook;
  /** What is picked to be measured between, the first two of it; null while nothing is measured. */
  measuring: BodyPick[] | null;
  /** Whether round faces are measured from their axis. */
  byAxes: boolean;
  /** Whether the part is measured through the stock about it. */
  throughStock: boolean;
  place: Vec3 | null;
  /** The face of the part that the place lies on, to be shown with it. */
  placeFace: number | null;
  /** The side along which is looked, by its name. */
  sideShown: string | null;
  /** The finding that was followed: its bodies are painted while its moment is shown. */
  found: Finding | null;
  wanted: ((face: number) => void) | null;
  wantedWords: string;
  /** Tools (by number) whose dimensions do not go together yet, and why; not saved. */
  drafts: Record<number, { tool: Tool; fault: Fault }>;
  /** What the whole plan that was added last says of itself. */
  proposed: { setup: number; words: string[] } | null;
  /** What the colour of a path tells, and whether the program's is drawn at the proof. */
  colourBy: PathColour;
  pathShown: boolean;
  /** Corners of the area that is being drawn, in program coordinates; null where none is. */
  drawing: [number, number][] | null;
  set: (values: Partial<SessionStore>) => void;
}

/** Some of what is selected, picked or played; a change of anything else draws nothing anew. */
export function useChosen<K extends keyof SessionStore>(...keys: K[]): Pick<SessionStore, K> {
  return useSession(
    useShallow((s) => Object.fromEntries(keys.map((k) => [k, s[k]])) as Pick<SessionStore, K>),
  );
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
  stopsAt: [],
  until: null,
  traced: "load",
  dragging: false,
  shown: "stock",
  step: null,
  turning: true,
  machineLook: null,
  faded: [],
  toolHidden: false,
  standLook: "hidden",
  measuring: null,
  byAxes: true,
  throughStock: true,
  place: null,
  placeFace: null,
  sideShown: null,
  found: null,
  wanted: null,
  wantedWords: "",
  drafts: {},
  proposed: null,
  drawing: null,
  colourBy: "kind",
  pathShown: false,
  set,
}));
