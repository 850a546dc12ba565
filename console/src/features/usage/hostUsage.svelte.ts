/** The live usage of each host's containers together, with the last minutes. A page starts it while it is shown. */
import { call } from "../../lib/api";
import { live } from "../../lib/live.svelte";
import type { CurrentUsage } from "../../lib/types";

export interface HostUse {
  processors: number;
  memory: number;
  recentProcessors: number[];
  recentMemory: number[];
}

/** Samples of the recent past that a sparkline shows. */
const HELD = 30;
/** Hosts send one after another: many messages, one drawing. */
const PAUSE = 500;

export class HostUsage {
  hosts = $state.raw(new Map<string, HostUse>());
  #latest = new Map<string, CurrentUsage>();
  #drawing: ReturnType<typeof setTimeout> | undefined;

  /** Begins to listen; what it gives ends that. */
  start(): () => void {
    void call<CurrentUsage[]>("GET", "/api/v1/usage")
      .then((samples) => this.#keep(samples))
      .catch(() => {});
    const end = live.use(["*/*"], (samples) => this.#keep(samples));
    return () => {
      clearTimeout(this.#drawing);
      this.#drawing = undefined;
      end();
    };
  }

  #keep(samples: CurrentUsage[]) {
    for (const sample of samples) this.#latest.set(`${sample.host}/${sample.id}`, sample);
    this.#drawing ??= setTimeout(() => {
      this.#drawing = undefined;
      this.#sum();
    }, PAUSE);
  }

  #sum() {
    const up = new Set(
      live.containers
        .filter((c) => c.state === "running" || c.state === "paused")
        .map((c) => `${c.host}/${c.id}`),
    );
    const next = new Map<string, HostUse>();
    for (const [key, sample] of this.#latest) {
      if (!up.has(key)) {
        this.#latest.delete(key);
        continue;
      }
      const host = next.get(sample.host) ?? {
        processors: 0,
        memory: 0,
        recentProcessors: [],
        recentMemory: [],
      };
      host.processors += sample.figures.processors ?? 0;
      host.memory += sample.figures.memory ?? 0;
      // The first answer brings the past along.
      if (!this.hosts.has(sample.host)) {
        addUp(host.recentProcessors, sample.recent_processors ?? []);
        addUp(host.recentMemory, sample.recent_memory ?? []);
      }
      next.set(sample.host, host);
    }
    for (const [name, host] of next) {
      const before = this.hosts.get(name);
      host.recentProcessors = [...(before?.recentProcessors ?? host.recentProcessors), host.processors].slice(
        -HELD,
      );
      host.recentMemory = [...(before?.recentMemory ?? host.recentMemory), host.memory].slice(-HELD);
    }
    this.hosts = next;
  }
}

/** Adds a container's past to a host's, the newest of both at the end. */
function addUp(sum: number[], values: number[]) {
  while (sum.length < values.length) sum.unshift(0);
  const shift = sum.length - values.length;
  values.forEach((value, n) => (sum[shift + n] = (sum[shift + n] ?? 0) + value));
}
