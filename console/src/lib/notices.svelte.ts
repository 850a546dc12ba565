/** The outcome of operations since this page was opened: shown at the foot of every page as it happens, and read again in the list of
 * notices. What a member asked for and waited long for stays until it is closed, and is reported in the window's title meanwhile. */
import { tally, verbs } from "./format";
import { live } from "./live.svelte";
import { session } from "./session.svelte";
import type { Operation } from "./types";

/** Milliseconds after which one looks elsewhere. */
const LONG = 10_000;
/** So many can be read again. */
const HELD = 30;

const began = Date.now();

export function isLong(o: Operation): boolean {
  return (
    o.state !== "running" &&
    o.author === session.member &&
    Date.parse(o.ended ?? o.created) - Date.parse(o.created) >= LONG
  );
}

/** Outcome, in a few words. */
export function words(o: Operation): string {
  const { done, bad, all } = tally(o);
  if (o.state === "running") return `${done} of ${all}${bad ? `, ${bad} failed` : ""}`;
  if (bad === 0) return all === 1 ? "succeeded" : `all ${all} succeeded`;
  return all === 1 ? (o.targets[0]?.sentence ?? o.state) : `${all - bad} succeeded, ${bad} failed`;
}

class Notices {
  /** The operations whose notice was closed. */
  closed = $state.raw<ReadonlySet<number>>(new Set());
  /** Whether the list of notices is open. */
  isOpen = $state(false);
  /** The window is behind others. */
  #hidden = $state(document.hidden);
  /** Moments at which the window came to the front. */
  #seen = $state(Date.now());

  constructor() {
    document.addEventListener("visibilitychange", () => {
      this.#hidden = document.hidden;
      this.#seen = Date.now();
    });
  }

  close(id: number) {
    this.closed = new Set([...this.closed, id]);
  }

  /** Those that ended since the page was opened, the newest first. */
  get ended(): Operation[] {
    return live.operations
      .filter((o) => o.state !== "running" && Date.parse(o.ended ?? o.created) > began)
      .sort((a, b) => b.id - a.id)
      .slice(0, HELD);
  }

  /** What to put before the window's title: a long operation of one's own ended while one looked elsewhere. */
  get title(): string {
    if (!this.#hidden) return "";
    const last = this.ended.find((o) => isLong(o) && Date.parse(o.ended ?? o.created) > this.#seen);
    return last ? `${verbs[last.kind].ask} ${words(last)} – ` : "";
  }
}

export const notices = new Notices();
