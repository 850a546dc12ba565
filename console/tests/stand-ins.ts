/** Stand-ins for what a browser has and a test has not: a service that answers as it is told, and its live connection. */
import { vi } from "vitest";

import type { Problem } from "../src/lib/types";

export interface Asked {
  method: string;
  path: string;
  headers: Record<string, string>;
  body: unknown;
}

export function problem(about: Partial<Problem>): Problem {
  return { type: "tag:gubernum,2026:x", title: "X", status: 500, detail: "it failed", ...about } as Problem;
}

export function json(value: unknown, status = 200): Response {
  return new Response(status === 204 ? null : JSON.stringify(value), { status });
}

/** Answers calls by method and path, and notes what was asked. An answer that is an error is a connection that broke. */
export function service(answers: Record<string, (asked: Asked) => Response | Error | Promise<Response>>) {
  const asked: Asked[] = [];
  vi.stubGlobal(
    "fetch",
    vi.fn(async (path: string, request: RequestInit = {}) => {
      const [method, headers] = [request.method ?? "GET", request.headers as Record<string, string>];
      const body = typeof request.body === "string" ? (JSON.parse(request.body) as unknown) : request.body;
      const question = { method, path, headers, body };
      asked.push(question);
      const found = answers[`${method} ${path}`] ?? answers[`${method} ${path.split("?")[0]}`];
      const answer = await (found?.(question) ?? json(problem({ status: 404 }), 404));
      if (answer instanceof Error) throw answer;
      return answer;
    }),
  );
  return asked;
}

/** A WebSocket that goes nowhere: a test opens it, speaks for the service, and ends it. */
export class Wire {
  static readonly OPEN = 1;
  static all: Wire[] = [];
  static get last(): Wire {
    const found = Wire.all.at(-1);
    if (!found) throw new Error("nothing was opened");
    return found;
  }

  readyState = 0;
  readonly sent: Record<string, unknown>[] = [];
  onopen?: () => void;
  onmessage?: (event: { data: string }) => void;
  onclose?: () => void;

  constructor(
    readonly address: string,
    readonly protocols: string[],
  ) {
    Wire.all.push(this);
  }

  open() {
    this.readyState = Wire.OPEN;
    this.onopen?.();
  }

  send(text: string) {
    this.sent.push(JSON.parse(text) as Record<string, unknown>);
  }

  /** What the service says. */
  say(message: unknown) {
    this.onmessage?.({ data: JSON.stringify(message) });
  }

  close() {
    this.readyState = 3;
    this.onclose?.();
  }

  of(type: string): Record<string, unknown>[] {
    return this.sent.filter((message) => message.type === type);
  }
}
