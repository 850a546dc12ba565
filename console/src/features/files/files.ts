/** Calls whose bodies are no JSON: files as they are, and answers that come line by line. */
import { ApiError, keyHeader, unique } from "../../lib/api";
import type { Problem } from "../../lib/types";

export type { FileEntry as Entry, Folder } from "../../lib/types";

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
  const headers = { ...keyHeader(), ...(more.headers as Record<string, string> | undefined) };
  const response = await fetch(address, { method, body, ...more, headers });
  if (response.ok) return response;
  throw new ApiError((await response.json()) as Problem);
}

/** How often an upload whose connection breaks is resumed. */
const TRIES = 5;

/** Writes a file; when the connection breaks it resumes with what has not arrived yet. */
export async function send(
  base: string,
  path: string,
  file: Blob,
  tell: (text: string) => void,
): Promise<void> {
  const word = unique();
  const which = `path=${encodeURIComponent(path)}&upload=${word}`;
  let from = 0;
  for (let tries = 0; ;) {
    try {
      await raw("PUT", `${base}/file?${which}${from > 0 ? `&from=${from}` : ""}`, file.slice(from));
      return;
    } catch (error) {
      let wrong = error;
      for (let asked = false; !asked;) {
        if (wrong instanceof ApiError || (tries += 1) > TRIES) throw wrong;
        tell("Connection lost; resuming…");
        await new Promise((go) => setTimeout(go, 1000 * tries));
        try {
          const answer = await raw("GET", `${base}/file-upload?${which}`);
          from = ((await answer.json()) as { received: number }).received;
          asked = true;
        } catch (again) {
          wrong = again;
        }
      }
    }
  }
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
