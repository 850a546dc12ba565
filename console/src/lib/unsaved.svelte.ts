/** What is typed in a form and not sent yet: kept with the browser's own history, so that a reload or a step back finds it again, and asked
 * about before a page is left. Not for settings (those are sent at once) and not for anything that outlives the tab. */

/** Variables whose values are not shown, and not kept. */
export const SECRET = /pass|secret|token|key|credential|auth/i;

/** Keeps `value` for this page under `key`. What cannot be kept (too large for the browser) is only lost by a reload. */
export function keep(key: string, value: unknown) {
  try {
    const before: unknown = history.state;
    history.replaceState({ ...(typeof before === "object" ? before : null), [key]: value }, "");
  } catch {
    // The form goes on without it.
  }
}

/** What was kept for this page under `key`. */
export function kept<T>(key: string): T | null {
  const state = history.state as Record<string, unknown> | null;
  return (state?.[key] as T | undefined) ?? null;
}

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
