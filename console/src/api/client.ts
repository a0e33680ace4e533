/** Calls to the service. Types come from its OpenAPI description. */
import type { components } from "../../types/schema";
import { API, ROOT } from "../root";

export type Schemas = components["schemas"];
export type Kb = Schemas["KbOut"];
export type Doc = Schemas["DocumentOut"];
export type Session = Schemas["SessionOut"];
export type Citation = Schemas["CitationOut"];
export type Evidence = Schemas["EvidenceOut"];
export type Answer = Schemas["AnswerOut"];
export type Hit = Schemas["HitOut"];
export type Problem = Schemas["Problem"];

/** A problem that the service returned, with its advice. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.advice ? `${problem.detail} ${problem.advice}` : problem.detail);
  }
}

const BASE = API;
const CONSOLE = { "X-Fontanel-Console": "1" };

/** Whether the headers are a guest's: the link's secret and the guest's own. */
const isGuest = (headers: Record<string, string>) => "Authorization" in headers;

/** Set while signing out: requests in progress must not redirect to the current page. */
let leaving = false;

export async function signOut(): Promise<void> {
  leaving = true;
  try {
    await send("DELETE", "/session");
    location.assign(`${ROOT}/sign-in`);
  } catch (problem) {
    leaving = false;
    throw problem;
  }
}

async function check(response: Response, guest = false): Promise<Response> {
  if (response.ok) return response;
  let problem: Problem;
  try {
    problem = (await response.json()) as Problem;
  } catch {
    problem = {
      type: "about:blank",
      title: response.statusText,
      status: response.status,
      detail: response.statusText,
    };
  }
  if (
    response.status === 401 &&
    !guest &&
    !leaving &&
    !/^\/(sign-in|invitation|password)$/.test(location.pathname.slice(ROOT.length))
  ) {
    location.assign(
      `${ROOT}/sign-in?next=${encodeURIComponent(location.pathname + location.search)}`,
    );
  }
  throw new ProblemError(problem);
}

export async function send<T>(
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
): Promise<T> {
  const json: Record<string, string> =
    body === undefined ? {} : { "Content-Type": "application/json" };
  const response = await check(
    await fetch(BASE + path, {
      method,
      headers: { ...CONSOLE, ...json, ...headers },
      body: body === undefined ? undefined : JSON.stringify(body),
    }),
    isGuest(headers),
  );
  return (response.status === 204 ? undefined : await response.json()) as T;
}

export const get = <T>(path: string, headers?: Record<string, string>) =>
  send<T>("GET", path, undefined, headers);

/** Download a file that the service creates. */
export async function keep(
  path: string,
  name: string,
  headers: Record<string, string> = {},
): Promise<void> {
  const response = await check(
    await fetch(BASE + path, { headers: { ...CONSOLE, ...headers } }),
    isGuest(headers),
  );
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** Send a form, for requests with a file and other fields. */
export async function sendForm<T>(path: string, form: FormData): Promise<T> {
  const response = await check(
    await fetch(BASE + path, { method: "POST", headers: CONSOLE, body: form }),
  );
  return (await response.json()) as T;
}

/** Upload one file, reporting the share sent. */
export function upload(
  path: string,
  file: File,
  onShare: (share: number) => void,
): Promise<Schemas["AddedOut"]> {
  return new Promise((resolve, reject) => {
    const form = new FormData();
    form.append("file", file);
    form.append("name", file.webkitRelativePath || file.name);
    const request = new XMLHttpRequest();
    request.open("POST", BASE + path);
    request.setRequestHeader("X-Fontanel-Console", "1");
    request.upload.onprogress = (event) =>
      event.lengthComputable && onShare(event.loaded / event.total);
    request.onerror = () =>
      reject(new Error(`${file.name} could not be sent. Is the service running?`));
    request.onload = () => {
      const answer: unknown = JSON.parse(request.responseText || "{}");
      if (request.status < 300) resolve(answer as Schemas["AddedOut"]);
      else reject(new ProblemError(answer as Problem));
    };
    request.send(form);
  });
}

export type AskEvent =
  | Schemas["StartEvent"]
  | Schemas["EvidenceEvent"]
  | Schemas["PieceEvent"]
  | Schemas["CitationEvent"]
  | Schemas["CheckEvent"]
  | Schemas["RestartEvent"]
  | Schemas["FinishEvent"]
  | Schemas["ProblemEvent"];

/** Ask, and pass on each event as it arrives. */
export async function ask(
  path: string,
  body: { question: string; conversation_id: string | null } & Record<string, unknown>,
  onEvent: (event: AskEvent) => void,
  signal: AbortSignal,
  headers: Record<string, string> = {},
): Promise<void> {
  const response = await check(
    await fetch(BASE + path, {
      method: "POST",
      headers: {
        ...CONSOLE,
        "Content-Type": "application/json",
        Accept: "text/event-stream",
        ...headers,
      },
      body: JSON.stringify(body),
      signal,
    }),
    isGuest(headers),
  );
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  let buffer = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    buffer += value;
    const parts = buffer.split("\n\n");
    buffer = parts.pop() ?? "";
    for (const part of parts) {
      const data = part
        .split("\n")
        .filter((line) => line.startsWith("data:"))
        .map((line) => line.slice(5).trimStart())
        .join("\n");
      if (!data) continue;
      const event = JSON.parse(data) as AskEvent;
      if (event.event === "problem") throw new ProblemError(event.problem);
      onEvent(event);
    }
  }
}
