/** Calls of the HTTP API. A failure is thrown as an ApiError that carries the service's own sentence. */
import type { Problem } from "./types";

export class ApiError extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(problem.detail);
    this.problem = problem;
  }
}

const UNREACHABLE: Problem = {
  type: "unreachable",
  title: "Unreachable",
  status: 0,
  detail: "The service does not answer. Retrying…",
};

/** Called when the service says that nobody is signed in. */
let signedOut: () => void = () => {};

export function onSignedOut(tell: () => void) {
  signedOut = tell;
}

/** Where this page keeps the key of its session. Pages of other ports, to which browsers send our cookie, cannot read it. */
const KEY = "gubernum.key";

/** Keeps the key that came with a sign-in; none when it is over. */
export function keepKey(key: string | undefined) {
  if (key) localStorage.setItem(KEY, key);
  else localStorage.removeItem(KEY);
}

/** The header without which the session's cookie is of no use. */
export function keyHeader(): Record<string, string> {
  const key = localStorage.getItem(KEY);
  return key ? { "Gubernum-Key": key } : {};
}

/** Opens a WebSocket of the service. Headers cannot be set on one: the key goes along as a subprotocol. */
export function openSocket(path: string): WebSocket {
  const scheme = location.protocol === "https:" ? "wss" : "ws";
  const key = localStorage.getItem(KEY);
  const protocols = ["gubernum", ...(key ? [`gubernum-key.${key}`] : [])];
  return new WebSocket(`${scheme}://${location.host}${path}`, protocols);
}

/** Follows a link to a download: a link carries no header, so a ticket is asked for first. */
export async function download(path: string, name: string) {
  const ticket = await call<{ address: string }>("POST", "/api/v1/tickets", { path });
  const link = document.createElement("a");
  link.href = ticket.address;
  link.download = name;
  link.dataset.ticket = "yes";
  document.body.append(link);
  link.click();
  link.remove();
}

/** A text that is unlike any other, also where the page came over plain HTTP. */
export function unique(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  return [...bytes].map((b) => b.toString(16).padStart(2, "0")).join("");
}

/** Makes a call. With a key, a repeated one is the same operation. */
export async function call<T>(
  method: string,
  path: string,
  body?: unknown,
  key?: string,
  leaving?: AbortSignal,
): Promise<T> {
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      headers: {
        ...keyHeader(),
        ...(body === undefined ? {} : { "Content-Type": "application/json" }),
        ...(key === undefined ? {} : { "Idempotency-Key": key }),
      },
      body: body === undefined ? undefined : JSON.stringify(body),
      signal: leaving,
    });
  } catch {
    throw new ApiError(UNREACHABLE);
  }
  if (response.status === 204) return undefined as T;
  const text = await response.text();
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    throw new ApiError({
      ...UNREACHABLE,
      status: response.status,
      detail: `The service's answer cannot be read (status ${response.status}).`,
    });
  }
  if (response.ok) return value as T;
  const problem = value as Problem;
  if (problem.type?.endsWith(":not-signed-in")) signedOut();
  if (problem.type?.endsWith(":step-up-needed") && (await stepUp(sentence(new ApiError(problem))))) {
    return call<T>(method, path, body, key, leaving);
  }
  throw new ApiError(problem);
}

/** Asks the member to step up; resolves to whether they did. */
let stepUp: (why: string) => Promise<boolean> = () => Promise.resolve(false);

export function onStepUpNeeded(ask: (why: string) => Promise<boolean>) {
  stepUp = ask;
}

export function sentence(error: unknown): string {
  if (!(error instanceof Error)) return String(error);
  const text = error.message;
  return text.charAt(0).toUpperCase() + text.slice(1) + (/[.!?]$/.test(text) ? "" : ".");
}
