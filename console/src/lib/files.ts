/** Calls whose bodies are no JSON: files as they are, and answers that come line by line. */
import { ApiError } from "./api";
import type { Problem } from "./types";

export interface Entry {
  name: string;
  kind: "file" | "folder" | "link" | "other";
  size: number;
  written: string;
  mode: string;
  user: number;
  group: number;
  target?: string;
}

export interface Folder {
  path: string;
  entries: Entry[];
  incomplete?: string;
}

/** Where the files of a container or a volume are reached. */
export function filesOf(kind: "container" | "volume", reference: string): string {
  return `/api/v1/${kind}s/${reference.split("/").map(encodeURIComponent).join("/")}`;
}

/** An answer that is no JSON; what went wrong is. */
export async function raw(
  method: string,
  address: string,
  body?: Blob,
  more: RequestInit = {},
): Promise<Response> {
  const response = await fetch(address, { method, body, ...more });
  if (response.ok) return response;
  throw new ApiError((await response.json()) as Problem);
}

/** Reads an answer of JSON lines as they come. */
export async function eachLine<T>(response: Response, take: (line: T) => void): Promise<void> {
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
  let held = "";
  for (;;) {
    const piece = await reader?.read();
    if (!piece || piece.done) return;
    held += piece.value;
    const lines = held.split("\n");
    held = lines.pop() ?? "";
    for (const line of lines) if (line) take(JSON.parse(line) as T);
  }
}
