import createClient from "openapi-fetch";
import type { paths, components } from "./schema";
import { unpack, type Blob } from "./binary";
import { editorHeaders } from "./editor";
import type { Fault, JobDocument } from "./types";

export type JobAnswer = Omit<components["schemas"]["JobAnswer"], "document"> & { document: JobDocument };
export type RunAnswer = Omit<components["schemas"]["RunAnswer"], "error"> & { error: Fault | null };

/** Relative to the page, so that tests in Node can name an address. */
export const api = createClient<paths>({ baseUrl: typeof location === "undefined" ? "" : location.origin });

/** An answer that says what is wrong, in words for the user. */
export class ServerFault extends Error {
  constructor(
    readonly fault: Fault,
    message: string,
  ) {
    super(message);
  }
}

const plainFault = (code: string, what: string): Fault => ({ code, what, remedy: "", where: "" });

export async function request<T>(path: string, init?: RequestInit): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(`/api${path}`, { ...init, headers: { ...editorHeaders(), ...init?.headers } });
  } catch {
    throw new ServerFault(
      plainFault("network", "The server does not answer."),
      "The server does not answer. Is it still running? Nothing you saved is lost.",
    );
  }
  if (!answer.ok) throw await faultOf(answer);
  const kind = answer.headers.get("content-type") ?? "";
  return (kind.includes("json") ? answer.json() : answer.text()) as Promise<T>;
}

async function faultOf(answer: Response): Promise<ServerFault> {
  const body = await answer.json().catch(() => null);
  if (body?.error) return new ServerFault(body.error, body.message);
  const detail = Array.isArray(body?.detail) ? body.detail.map((d: { msg: string }) => d.msg).join("; ") : "";
  const what = detail.replace("Value error, ", "") || `The server answered ${answer.status}.`;
  return new ServerFault(plainFault("http", what), what);
}

export async function requestBlob(path: string, signal?: AbortSignal): Promise<Blob> {
  const answer = await fetch(`/api${path}`, { signal });
  if (!answer.ok) throw await faultOf(answer);
  return unpack(await answer.arrayBuffer());
}

/** Characters of a request that browsers still send when its page is closed. */
const OUTLIVES = 30_000;

export function send<T>(method: string, path: string, body?: unknown): Promise<T> {
  const init: RequestInit = { method };
  if (body instanceof FormData) init.body = body;
  else if (body !== undefined) {
    init.body = JSON.stringify(body);
    init.headers = { "content-type": "application/json" };
    init.keepalive = init.body.length < OUTLIVES; // a change on its way arrives although the page is left
  }
  return request<T>(path, init);
}
