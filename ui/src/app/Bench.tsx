import { ActionIcon, Loader, Tooltip, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { IconArrowBackUp, IconArrowForwardUp, IconCommand, IconMoon, IconSun } from "@tabler/icons-react";
import { useCallback, useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
  useSaving,
  useEdit,
  useFaces,
  useJob,
  useJobState,
  useLibrary,
  useRunEvents,
  useRuns,
} from "../api/hooks";
import { PartCard, PartSheet } from "../features/part/Part";
import { FollowedPlans } from "../picks/WholePlan";
import { PlanSheet } from "../features/plan/Plan";
import { PlanCard } from "../features/plan/PlanCard";
import { ProveCard, ProveSheet } from "../features/prove/Prove";
import { RunStrip } from "../features/prove/RunStrip";
import { ReleaseCard } from "../features/release/ReleaseCard";
import { ReleaseSheet } from "../features/release/Release";
import { SetupCard } from "../features/setups/SetupCard";
import { SetupSheet } from "../features/setups/Setups";
import { ToolCard } from "../features/tools/ToolCard";
import { ToolSheet } from "../features/tools/Tools";
import { SessionContext, STATIONS, type Shared, type Station } from "../session/context";
import { Palette, Shortcuts } from "./Palette";
import { needs } from "../session/needs";
import { useSession } from "../session/store";
import { useShallow } from "zustand/react/shallow";
import { Late } from "../session/Late";
import { UnderWay } from "../session/UnderWay";
import { View } from "../features/view/View";

const SHEETS = {
  part: PartSheet,
  setups: SetupSheet,
  tools: ToolSheet,
  plan: PlanSheet,
  prove: ProveSheet,
  release: ReleaseSheet,
};
const CARDS = {
  part: PartCard,
  setups: SetupCard,
  tools: ToolCard,
  plan: PlanCard,
  prove: ProveCard,
  release: ReleaseCard,
};

/** One job on the bench: stations on top, sheet, view, card, and the run strip. */
export function Bench() {
  const params = useParams();
  const id = Number(params.id);
  const station = (STATIONS as readonly string[]).includes(params.station ?? "")
    ? (params.station as Station)
    : "part";
  const navigate = useNavigate();
  const go = useCallback((to: Station) => navigate(`/jobs/${id}/${to}`), [navigate, id]);
  const job = useJob(id);
  const state = useJobState(id, job.data?.revision);
  const library = useLibrary();
  const faces = useFaces(id, state.data?.part.key);
  const runs = useRuns(id);
  const { editing, document } = useEdit(id, job.data?.document);
  useRunEvents(id);
  const chosen = useSession(useShallow((s) => [s.setup, s.operation, s.tool, s.release]));
  const [palette, setPalette] = useState(false);
  const [help, setHelp] = useState(false);
  useKeys(go, editing.move, setPalette, setHelp);
  useEffect(() => {
    useSession.getState().set({
      setup: 0,
      operation: null,
      marked: [],
      tool: null,
      release: 0,
      picks: [],
      time: 0,
      playing: 0,
      step: null,
      place: null,
      found: null,
      wanted: null,
      proposed: null,
      drafts: {},
      drawing: null,
    });
  }, [id]);

  // a part that is made in several setups is looked at as it leaves the last one
  const releases = state.data?.releases;
  useEffect(() => {
    const last = releases?.at(-1);
    const setup = job.data?.document.setups.find((s) => s.name === last?.setup);
    if (releases && setup?.stock.kind === "carried")
      useSession.getState().set({ release: releases.length - 1 });
    // only once for a job
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [id, !!releases]);

  const shared = useMemo<Shared | null>(
    () =>
      document && job.data && library.data
        ? {
            id,
            station,
            go,
            document,
            revision: job.data.revision,
            state: state.data,
            library: library.data,
            faces: faces.data?.faces ?? [],
            edges: faces.data?.edges ?? [],
            runs: runs.data ?? [],
            editing,
          }
        : null,
    [id, station, go, document, job.data, state.data, library.data, faces.data, runs.data, editing],
  );
  if (job.isError) {
    return (
      <main className="joblist">
        <p className="problem wrong">{job.error.message}</p>
        <p>
          <a href={`/api/jobs/${id}/document.json`} download>
            Download its document
          </a>
        </p>
        <Link to="/">All jobs</Link>
      </main>
    );
  }
  if (!shared || !job.data) return <Loader m={40} />;
  const Sheet = SHEETS[station];
  const Card = CARDS[station];
  // what is chosen has a card of its own, which begins at its top
  const card = [station, ...chosen].join("/");
  return (
    <SessionContext.Provider value={shared}>
      <div className="bench">
        <header className="top">
          <Link to="/" className="home" aria-label="Fenrik, all jobs">
            <img src="/mark.svg" width={22} height={22} alt="" /> Fenrik
          </Link>
          <h1 className="jobname" title={shared.document.name}>
            {shared.document.name}
          </h1>
          <nav className="stations" aria-label="Stations">
            {STATIONS.map((s, i) => (
              <button
                key={s}
                className="station"
                aria-current={s === station ? "page" : undefined}
                onClick={() => go(s)}
              >
                <span className="key">{i + 1}</span>
                {s[0].toUpperCase() + s.slice(1)}
                <span className={`need ${lookOf(needs(s, shared))}`}>{needs(s, shared)}</span>
              </button>
            ))}
          </nav>
          <Actions
            canUndo={job.data.can_undo}
            canRedo={job.data.can_redo}
            move={editing.move}
            openPalette={() => setPalette(true)}
          />
        </header>
        <div className="left">
          <section className="sheet" aria-label="Sheet">
            <Late />
            <Sheet />
          </section>
          <UnderWay />
          <FollowedPlans />
        </div>
        <View />
        <aside className="card" aria-label="Card" key={card}>
          <Card />
        </aside>
        {(station === "prove" || station === "release") && <RunStrip />}
      </div>
      <Palette opened={palette} close={() => setPalette(false)} />
      <Shortcuts opened={help} close={() => setHelp(false)} />
    </SessionContext.Provider>
  );
}

const lookOf = (need: string) => (/stop|failed/.test(need) ? "bad" : need === "proved" ? "good" : "");

interface ActionProps {
  canUndo: boolean;
  canRedo: boolean;
  move: (which: "undo" | "redo") => void;
  openPalette: () => void;
}

function Actions({ canUndo, canRedo, move, openPalette }: ActionProps) {
  const { setColorScheme } = useMantineColorScheme();
  const dark = useComputedColorScheme("light") === "dark";
  const saving = useSaving((s) => s.open > 0);
  return (
    <div className="actions">
      <span className="saved" role="status" aria-label="Changes">
        {saving ? "saving" : "all saved"}
      </span>
      <Tooltip label="Undo (Ctrl+Z)">
        <ActionIcon variant="subtle" aria-label="Undo" disabled={!canUndo} onClick={() => move("undo")}>
          <IconArrowBackUp size={17} />
        </ActionIcon>
      </Tooltip>
      <Tooltip label="Redo (Ctrl+Y)">
        <ActionIcon variant="subtle" aria-label="Redo" disabled={!canRedo} onClick={() => move("redo")}>
          <IconArrowForwardUp size={17} />
        </ActionIcon>
      </Tooltip>
      <Tooltip label="Everything (Ctrl+K)">
        <ActionIcon variant="subtle" aria-label="Command palette" onClick={openPalette}>
          <IconCommand size={17} />
        </ActionIcon>
      </Tooltip>
      <Tooltip label="Light or dark">
        <ActionIcon
          variant="subtle"
          aria-label="Light or dark"
          onClick={() => setColorScheme(dark ? "light" : "dark")}
        >
          {dark ? <IconSun size={17} /> : <IconMoon size={17} />}
        </ActionIcon>
      </Tooltip>
    </div>
  );
}

/** Where a key writes; a box that was ticked or a choice that was made leaves it to the page. */
const WRITTEN_IN =
  "input:not([readonly], [type=checkbox], [type=radio], [type=range]), textarea, [contenteditable]";

/** Where Escape closes a list of choices, and nothing else. */
const CHOSEN_IN = "input[readonly]";

function useKeys(
  go: (s: Station) => void,
  move: (w: "undo" | "redo") => void,
  palette: (open: boolean) => void,
  help: (open: boolean) => void,
) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest(WRITTEN_IN);
      const control = event.ctrlKey || event.metaKey;
      if (control && event.key === "k") {
        event.preventDefault();
        palette(true);
      } else if (typing) {
        return;
      } else if (control && event.key === "z") {
        event.preventDefault();
        move(event.shiftKey ? "redo" : "undo");
      } else if (control && event.key === "y") {
        event.preventDefault();
        move("redo");
      } else if (!control && /^[1-6]$/.test(event.key)) {
        go(STATIONS[Number(event.key) - 1]);
      } else if (event.key === "?") {
        help(true);
      } else if (event.key === "Escape" && !(event.target as HTMLElement).closest(CHOSEN_IN)) {
        useSession.getState().set({ picks: [], wanted: null, wantedWords: "", drawing: null });
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [go, move, palette, help]);
}
