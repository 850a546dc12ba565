/** What the progress of a target comes to: its layers as one. Drawn by Transfer.svelte. */
import type { Progress } from "../../lib/types";

export interface Transferred {
  done: number;
  total: number;
  /** `2 of 7 layers`, or what is being done. */
  words: string;
}

/** The bytes of all layers, and how many of them are there. */
export function transferred(progress: Progress): Transferred {
  const layers = progress.layers ?? [];
  if (layers.length === 0) {
    return { done: progress.done ?? 0, total: progress.total ?? 0, words: progress.doing };
  }
  const there = layers.filter((layer) => layer.finished).length;
  return {
    done: layers.reduce((sum, layer) => sum + layer.done, 0),
    total: layers.reduce((sum, layer) => sum + Math.max(layer.total, layer.done), 0),
    words: `${there} of ${layers.length} layers`,
  };
}

/** Bytes per second between two samples; none where the count went down, as with a layer that is restarted. */
export function rateOf(
  before: { at: number; done: number },
  now: { at: number; done: number },
): number | null {
  const seconds = (now.at - before.at) / 1000;
  return seconds > 0 && now.done >= before.done ? (now.done - before.done) / seconds : null;
}
