/** What needs attention, worst first: of hosts and containers as they are seen live, of stacks and the service itself as it says. The
 * Overview, the navigation and the window's title count here. */
import { call } from "../../lib/api";
import { age, reference } from "../../lib/format";
import { live } from "../../lib/live.svelte";
import type { Container, Host, Reason, Snooze } from "../../lib/types";

export interface Item {
  key: string;
  where: string;
  reason: Reason;
  since: string;
  container?: Container;
  host?: Host;
  stack?: { host: string; stack: string };
  /** As notes and snoozes name it. */
  on: string;
  snoozed?: Snooze;
}

interface Told {
  host: string;
  stack?: string | null;
  reason: Reason;
}

const reasonOn = (on: string, code: string) => `${code} ${on}`;

class Attention {
  /** What the console cannot see by itself: stacks that differ, jobs that failed, the service's own records. */
  #told = $state.raw<Told[]>([]);

  /** Which reasons are set aside, by what they are on. */
  #aside = $derived(
    new Map(
      live.team.snoozes
        .filter((s) => Date.parse(s.until) > live.now)
        .map((s) => [reasonOn(s.on, s.code), s] as const),
    ),
  );

  async look() {
    try {
      const found = await call<Told[]>("GET", "/api/v1/attention");
      this.#told = found.filter((item) => item.reason.code !== "note" && (item.host === "" || item.stack));
    } catch {
      // The last list stays; the connection's own notice says that the service does not answer.
    }
  }

  forget() {
    this.#told = [];
  }

  get items(): Item[] {
    const items: Item[] = [];
    for (const host of live.hosts) {
      if (!host.attention) continue;
      const seen = host.last_seen ? `seen ${age(host.last_seen, live.now)} ago` : "never seen";
      const since = host.state === "stale" ? seen : "";
      items.push({
        key: host.name,
        where: host.name,
        reason: host.attention,
        since,
        host,
        on: `host:${host.name}`,
      });
    }
    for (const c of live.containers) {
      if (!c.attention) continue;
      // Since when a check fails the engine does not tell; an end has its time.
      const since = c.state === "running" ? "" : age(c.finished, live.now);
      items.push({
        key: reference(c),
        where: reference(c),
        reason: c.attention,
        since,
        container: c,
        on: `container:${reference(c)}`,
      });
    }
    for (const item of this.#told) {
      const stack = item.host && item.stack ? { host: item.host, stack: item.stack } : undefined;
      const where = stack ? `${stack.host}/${stack.stack}` : "Gubernum";
      const row = live.drift.find((r) => r.host === stack?.host && r.stack === stack?.stack);
      const since = item.reason.code === "drift" ? age(row?.since, live.now) : "";
      const key = `${item.reason.code} ${where} ${item.reason.sentence}`;
      items.push({ key, where, reason: item.reason, since, stack, on: stack ? `stack:${where}` : "fleet" });
    }
    for (const item of items) item.snoozed = this.#aside.get(reasonOn(item.on, item.reason.code));
    // The service says where each belongs: the client lists them in the same order.
    return items.sort(
      (a, b) => a.reason.rank - b.reason.rank || (a.key < b.key ? -1 : a.key > b.key ? 1 : 0),
    );
  }

  /** How many are more than a notice, and not set aside. */
  get urgent(): number {
    return this.items.filter((item) => item.reason.severity !== "notice" && !item.snoozed).length;
  }
}

export const attention = new Attention();
