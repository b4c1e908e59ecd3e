import { notifications } from "@mantine/notifications";
import { useQuery, useQueryClient, type QueryClient, type QueryKey } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { create } from "zustand";
import { request, requestBlob, send, ServerFault, type JobAnswer, type RunAnswer } from "./client";
import { savingField } from "./refusal";
import type {
  EdgeFacts,
  FaceFacts,
  FeatureGroup,
  HoleGroup,
  JobDocument,
  JobState,
  Kept,
  Library,
  LineChange,
  OperationValues,
  ProofFacts,
  WayUp,
  Side,
  SidesNeeded,
  SideState,
} from "./types";

/** An error in words, without places of the document, which mean nothing on a page. */
const said = (error: unknown) => {
  if (error instanceof ServerFault)
    return `${error.fault.what} ${error.fault.remedy ?? ""}`.trim() || error.message;
  return error instanceof Error ? error.message : String(error);
};

export function tell(error: unknown) {
  notifications.show({
    color: "red",
    title: "That did not work",
    message: said(error),
    autoClose: 12000,
  });
}

export const useLibrary = () =>
  useQuery({ queryKey: ["library"], queryFn: () => request<Library>("/library"), staleTime: Infinity });

export const useJob = (id: number) =>
  useQuery({ queryKey: ["job", id], queryFn: () => request<JobAnswer>(`/jobs/${id}`) });

export const useJobState = (id: number, revision: number | undefined) =>
  useQuery({
    queryKey: ["state", id, revision],
    queryFn: () => request<JobState>(`/jobs/${id}/state`),
    enabled: revision !== undefined,
    placeholderData: (before) => before,
  });

export const useValues = (id: number, revision: number, setup: number, operation: number | null) =>
  useQuery({
    queryKey: ["values", id, setup, operation, revision],
    queryFn: () => request<OperationValues>(`/jobs/${id}/setups/${setup}/operations/${operation}/values`),
    enabled: operation !== null,
    staleTime: Infinity,
    placeholderData: (before, query) =>
      query?.queryKey[2] === setup && query.queryKey[3] === operation ? before : undefined,
  });

export const useFaces = (id: number, key: string | null | undefined) =>
  useQuery({
    queryKey: ["faces", key],
    queryFn: () => request<{ faces: FaceFacts[]; edges: EdgeFacts[] }>(`/jobs/${id}/part/faces`),
    enabled: !!key,
    staleTime: Infinity,
  });

export const useHoles = (id: number, key: string | null | undefined) =>
  useQuery({
    queryKey: ["holes", key],
    queryFn: () => request<HoleGroup[]>(`/jobs/${id}/holes`),
    enabled: !!key,
    staleTime: Infinity,
  });

export const useBosses = (id: number, key: string | null | undefined) =>
  useQuery({
    queryKey: ["bosses", key],
    queryFn: () => request<FeatureGroup[]>(`/jobs/${id}/bosses`),
    enabled: !!key,
    staleTime: Infinity,
  });

export const useFeatures = (id: number, key: string | null | undefined) =>
  useQuery({
    queryKey: ["features", key],
    queryFn: () => request<FeatureGroup[]>(`/jobs/${id}/features`),
    enabled: !!key,
    staleTime: Infinity,
  });

/** The part's ways up, the best one first. */
export const useWaysUp = (id: number, key: string | null | undefined) =>
  useQuery({
    queryKey: ["ways-up", key],
    queryFn: () => request<WayUp[]>(`/jobs/${id}/ways-up`),
    enabled: !!key,
    staleTime: Infinity,
  });

/** The sides that a setup needs besides those that it has, as the job was saved last. */
export const useSidesNeeded = (id: number, index: number, revision: number, asked: boolean) =>
  useQuery({
    queryKey: ["sides-needed", id, index, revision],
    queryFn: () => request<SidesNeeded>(`/jobs/${id}/setups/${index}/sides-needed`),
    enabled: asked,
    placeholderData: (before) => before,
    staleTime: Infinity,
    retry: false,
  });

/** How a side would stand that a setup may get, as the job was saved last. */
export const useTriedSide = (id: number, index: number, revision: number, side: Side) =>
  useQuery({
    queryKey: ["tried-side", id, index, revision, side],
    queryFn: () => send<SideState>("POST", `/jobs/${id}/setups/${index}/sides/tried`, side),
    staleTime: Infinity,
    retry: false,
  });

export const useBlob = (path: string | null) =>
  useQuery({
    queryKey: ["blob", path],
    queryFn: () => requestBlob(path!),
    enabled: !!path,
    staleTime: Infinity,
    gcTime: 60_000,
  });

/** The stock's surface at a moment s of a proved program. Large, so it is not kept for long. */
export const useStockAt = (key: string | null | undefined, moment: number | null) =>
  useQuery({
    queryKey: ["stock-at", key, moment],
    queryFn: ({ signal }) => requestBlob(`/proofs/${key}/at/${moment}`, signal),
    enabled: !!key && moment !== null,
    staleTime: Infinity,
    gcTime: 3_000,
  });

export const useProof = (key: string | null | undefined) =>
  useQuery({
    queryKey: ["proof", key],
    queryFn: () => request<ProofFacts>(`/proofs/${key}/facts`),
    enabled: !!key,
    staleTime: Infinity,
  });

export const useKept = (id: number) =>
  useQuery({ queryKey: ["kept", id], queryFn: () => request<Kept[]>(`/jobs/${id}/kept`) });

export const useLineChanges = (id: number, first: number | null, second: number | null) =>
  useQuery({
    queryKey: ["changes", id, first, second],
    queryFn: () => request<LineChange[]>(`/jobs/${id}/kept/${first}/against/${second}`),
    enabled: first !== null && second !== null,
    staleTime: Infinity,
  });

export const useRuns = (id: number) =>
  useQuery({ queryKey: ["runs", id], queryFn: () => request<RunAnswer[]>(`/jobs/${id}/runs`) });

interface Told {
  revision: number | null;
  runs: RunAnswer[];
}

/** How many entries and changes are not kept by the server yet. */
export const useSaving = create<{ open: number }>(() => ({ open: 0 }));

function whileSaving<T>(work: Promise<T>): Promise<T> {
  const add = (by: number) => useSaving.setState((now) => ({ open: now.open + by }));
  add(1);
  return work.finally(() => add(-1));
}

/** Asks again, also where the first answer is still on its way: that may be older than what was just told. */
async function askedAnew(client: QueryClient, queryKey: QueryKey) {
  await client.cancelQueries({ queryKey });
  await client.invalidateQueries({ queryKey });
}

/** Keeps document and runs fresh from the event stream; a run that ends makes the state be asked again. */
export function useRunEvents(id: number) {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource(`/api/jobs/${id}/events`);
    const open = new Map<number, string>();
    source.addEventListener("told", (event) => {
      const { revision, runs } = JSON.parse((event as MessageEvent).data) as Told;
      client.setQueryData(["runs", id], runs);
      const shown = client.getQueryData<JobAnswer>(["job", id]);
      // changed elsewhere; a change made here is told before its answer has come
      if (revision !== shown?.revision && !useSaving.getState().open) void askedAnew(client, ["job", id]);
      let ended = false;
      for (const run of runs) {
        const before = open.get(run.id);
        if (before !== run.state && !["queued", "running"].includes(run.state)) ended = true;
        open.set(run.id, run.state);
      }
      if (ended) void askedAnew(client, ["state", id]);
    });
    return () => source.close();
  }, [client, id]);
}

const entries = new Set<Promise<unknown>>();

/** Holds back what would work on the document (a run, an undo) until an entry that is still being read is saved. */
export function entering(saving: Promise<unknown>) {
  entries.add(saving);
  whileSaving(saving).catch(() => undefined);
  saving.finally(() => entries.delete(saving)).catch(() => undefined);
}

const allEntered = () => Promise.allSettled([...entries]);

type Change = (draft: JobDocument) => void;

/** A change that was made on a state of the job which somebody has changed meanwhile: not saved, not lost. */
interface Late {
  job: number;
  change: Change;
  before: JobDocument;
  after: JobDocument;
}

/** Changes that came too late; the page shows them and offers to put them on top. */
export const useLate = create<{ late: Late[] }>(() => ({ late: [] }));

const keepLate = (job: number, change: Change, before: JobDocument) => {
  const after = changed(before, [change]);
  useLate.setState(({ late }) => ({ late: [...late, { job, change, before, after }] }));
};

/** The document with changes that are not saved yet; one that no longer fits is left to its answer. */
function changed(document: JobDocument, changes: Change[]) {
  return changes.reduce((before, change) => {
    const draft = structuredClone(before);
    try {
      change(draft);
    } catch {
      return before;
    }
    return draft;
  }, document);
}

/** Edits of the document: shown at once, saved one after the other, refused ones taken back. */
export function useEdit(id: number, saved: JobDocument | undefined) {
  const client = useQueryClient();
  const waiting = useRef<Promise<unknown>>(Promise.resolve());
  const [pending, setPending] = useState<Change[]>([]);
  const document = useMemo(() => saved && changed(saved, pending), [saved, pending]);
  const put = useCallback(
    (answer: JobAnswer) => {
      client.setQueryData(["job", id], answer);
    },
    [client, id],
  );
  const edit = useCallback(
    (change: Change): Promise<boolean> => {
      const mine: Change = (draft) => change(draft);
      const field = savingField();
      setPending((all) => [...all, mine]);
      const step = waiting.current.then(async () => {
        const before = client.getQueryData<JobAnswer>(["job", id]);
        try {
          if (!before) return false;
          const document = structuredClone(before.document);
          change(document);
          put(await send<JobAnswer>("PUT", `/jobs/${id}/document`, { revision: before.revision, document }));
          return true;
        } catch (error) {
          const fault = error instanceof ServerFault ? error.fault : null;
          if (fault?.code === "conflict" && before) keepLate(id, change, before.document);
          else if (fault && field) field(fault);
          else tell(error);
          client.invalidateQueries({ queryKey: ["job", id] });
          return false;
        } finally {
          setPending((all) => all.filter((other) => other !== mine));
        }
      });
      waiting.current = step;
      return whileSaving(step);
    },
    [client, id, put],
  );
  const move = useCallback(
    (which: "undo" | "redo") => {
      const step = Promise.all([allEntered(), waiting.current]).then(async () => {
        const go = (anyway: boolean) => send<JobAnswer>("POST", `/jobs/${id}/${which}`, { anyway });
        try {
          put(await go(false));
        } catch (error) {
          const others = error instanceof ServerFault && error.fault.where === "others";
          if (!others) tell(error);
          else if (window.confirm(`${error.fault.what} ${error.fault.remedy}`)) put(await go(true));
        }
      });
      waiting.current = whileSaving(step.catch(tell));
    },
    [id, put],
  );
  const start = useCallback(
    async (target: string) => {
      await allEntered();
      await waiting.current;
      try {
        await send<RunAnswer>("POST", `/jobs/${id}/runs`, { target });
      } catch (error) {
        tell(error);
      }
    },
    [id],
  );
  const upload = useCallback(
    async (file: File) => {
      const body = new FormData();
      body.append("file", file);
      try {
        put(await whileSaving(send<JobAnswer>("POST", `/jobs/${id}/part`, body)));
      } catch (error) {
        tell(error);
      }
    },
    [id, put],
  );
  const editing = useMemo(() => ({ edit, move, start, upload }), [edit, move, start, upload]);
  return { editing, document };
}

export type Editing = ReturnType<typeof useEdit>["editing"];
