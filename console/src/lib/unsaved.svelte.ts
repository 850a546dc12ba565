/** What is typed in a form and not sent yet: kept with the browser's own history, so that a reload or a step back finds it again, and asked
 * about before a page is left. Not for settings (those are sent at once) and not for anything that outlives the tab. */

/** Variables whose values are not shown, and not kept. */
export const SECRET = /pass|secret|token|key|credential|auth/i;

/** Milliseconds without a key until what is typed is kept: browsers ignore more than about 200 changes of their history in half a minute. */
const PAUSE = 300;

/** Whose forms they are: the next who signs in within this tab is not shown them. */
let owner = "";

export function keepFor(member: string) {
  owner = member;
}

let waiting: { path: string; key: string; value: () => unknown } | null = null;
let timer: ReturnType<typeof setTimeout> | undefined;

/** Keeps what `value` gives for this page under `key`, once nothing more is typed. */
export function keepSoon(key: string, value: () => unknown) {
  waiting = { path: location.pathname, key, value };
  clearTimeout(timer);
  timer = setTimeout(keepNow, PAUSE);
}

/** Keeps what waits for that: before a page is left. */
export function keepNow() {
  clearTimeout(timer);
  const now = waiting;
  waiting = null;
  if (now && now.path === location.pathname) write(now.key, now.value());
}

/** Keeps nothing under `key` any more. */
export function forget(key: string) {
  if (waiting?.key === key) waiting = null;
  write(key, null);
}

/** What cannot be kept (too large for the browser) is only lost by a reload. */
function write(key: string, value: unknown) {
  try {
    const before = history.state as Record<string, unknown> | null;
    history.replaceState({ ...(before?.["of"] === owner ? before : null), of: owner, [key]: value }, "");
  } catch {
    // The form continues without it.
  }
}

/** What this member kept for this page under `key`. */
export function kept<T>(key: string): T | null {
  const state = history.state as Record<string, unknown> | null;
  return state?.["of"] === owner ? ((state[key] as T | undefined) ?? null) : null;
}

addEventListener("pagehide", keepNow);

/** The question that is open: where one wants to go, and what would be lost. */
export const leaving = $state<{ to: (() => void) | null; what: string }>({ to: null, what: "" });

let unsaved: (() => string | null) | null = null;

addEventListener("beforeunload", (event) => {
  if (unsaved?.()) event.preventDefault();
});

/** From now on `what` tells what would be lost by leaving, or null. Gives back how to end it. */
export function guard(what: () => string | null): () => void {
  unsaved = what;
  return () => {
    if (unsaved === what) unsaved = null;
  };
}

/** Goes on at once, or asks first when something would be lost. */
export function unlessUnsaved(go: () => void) {
  const what = unsaved?.();
  if (what) [leaving.to, leaving.what] = [go, what];
  else go();
}

/** Answers the question. */
export function leave(yes: boolean) {
  const to = leaving.to;
  leaving.to = null;
  if (!yes) return;
  unsaved = null;
  to?.();
}
