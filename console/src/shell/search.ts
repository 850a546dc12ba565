/**
 * The search box's ranking: every object, page and action by a few letters. Fast enough for every
 * keystroke over thousands of containers: nothing is sorted but the few that rank.
 */
import { matcher } from "../features/fleet/filter";
import { imageName, PLAIN_KINDS, reference, verbs } from "../lib/format";
import { inspect } from "../features/fleet/inspect";
import { live } from "../lib/live.svelte";
import { shownPages } from "./pages";
import { go } from "../lib/router.svelte";
import { pending } from "../lib/session.svelte";
import type { Container, ImageRow, NetworkRow, PortRow, VolumeRow } from "../lib/types";

export interface Hit {
  key: string;
  note: string;
  container: Container | null;
  pick: () => void;
}

/** Lists that are not live: fetched when the box is opened. */
export interface Assets {
  images: ImageRow[];
  volumes: VolumeRow[];
  networks: NetworkRow[];
  ports: PortRow[];
}

const MOST = 10;

/** Exactly so, begins so, a part begins so, or somewhere in it: the less the better; null is not at all. */
function rank(name: string, text: string): number | null {
  const lower = name.toLowerCase();
  if (lower === text) return 0;
  if (lower.startsWith(text)) return 1;
  const at = lower.indexOf(text);
  if (at < 0) return null;
  return /[^a-z0-9]/.test(lower[at - 1] ?? "") ? 2 : 3;
}

export function search(typed: string, assets: Assets): Hit[] {
  const text = typed.trim().toLowerCase();
  if (!text) return [];
  const hits: { hit: Hit; at: number }[] = [];
  const add = (at: number | null, hit: () => Hit) => {
    if (at !== null) hits.push({ at, hit: hit() });
  };

  const port = /^:?(\d{2,5})$/.exec(text)?.[1];
  if (port) {
    for (const p of assets.ports.filter((p) => String(p.port) === port)) {
      hits.push({
        at: -1,
        hit: {
          key: `${p.host}: ${p.port}/${p.protocol} → ${p.container.split("/")[1]}`,
          note: p.listening ? "listens on this port" : "reserved, does not run",
          container: live.container(...(p.container.split("/") as [string, string])) ?? null,
          pick: () => inspect("container", p.container),
        },
      });
    }
  }
  act(text, hits);

  const fits = matcher(text);
  let seen = 0;
  for (const c of live.containers) {
    if (!fits(c)) continue;
    const at = Math.min(rank(c.name, text) ?? 4, rank(reference(c), text) ?? 4) * 10 + (c.attention ? 0 : 1);
    // The best few of thousands, without sorting them all.
    if (at >= 20 && seen > 200) continue;
    seen += 1;
    hits.push({
      at,
      hit: { key: reference(c), note: c.image, container: c, pick: () => inspect("container", reference(c)) },
    });
  }
  const tens = (n: number | null) => (n === null ? null : n * 10 + 2);
  for (const h of live.hosts) {
    add(tens(rank(h.name, text)), () => ({
      key: h.name,
      note: "host",
      container: null,
      pick: () => inspect("host", h.name),
    }));
  }
  const stacks = new Set(live.containers.map((c) => c.stack).filter((s): s is string => !!s));
  for (const s of stacks) {
    add(tens(rank(s, text)), () => ({
      key: s,
      note: "stack",
      container: null,
      pick: () => inspect("stack", s),
    }));
  }
  for (const i of assets.images) {
    const name = imageName(i);
    add(tens(rank(name, text) ?? (i.id.startsWith(text) && text.length > 3 ? 1 : null)), () => ({
      key: name,
      note: "image",
      container: null,
      pick: () => inspect("image", i.id),
    }));
  }
  for (const v of assets.volumes) {
    add(tens(rank(v.name, text)), () => ({
      key: v.anonymous ? v.name.slice(0, 12) : v.name,
      note: `volume on ${v.host}`,
      container: null,
      pick: () => inspect("volume", `${v.host}/${v.name}`),
    }));
  }
  for (const n of assets.networks) {
    add(tens(rank(n.name, text)), () => ({
      key: n.name,
      note: `network on ${n.host}`,
      container: null,
      pick: () => inspect("network", `${n.host}/${n.name}`),
    }));
  }
  for (const p of shownPages()) {
    add(tens(rank(p.title, text)), () => ({
      key: p.title,
      note: "page",
      container: null,
      pick: () => go(p.path),
    }));
  }
  return hits
    .sort((a, b) => a.at - b.at || a.hit.key.localeCompare(b.hit.key))
    .slice(0, MOST)
    .map((h) => h.hit);
}

/** `restart frost` offers to restart what fits; the change is confirmed as everywhere. */
function act(text: string, hits: { hit: Hit; at: number }[]) {
  const [verb, ...rest] = text.split(/\s+/);
  const kind = [...PLAIN_KINDS, "update" as const].find(
    (k) => verb && verb.length >= 2 && k.startsWith(verb),
  );
  const what = rest.join(" ");
  if (!kind || !what) return;
  const fits = live.containers.filter(matcher(what)).slice(0, 5);
  for (const c of fits) {
    hits.push({
      at: -2,
      hit: {
        key: `${verbs[kind].ask} ${reference(c)}…`,
        note: "action",
        container: c,
        pick: () => (pending.wish = { kind, containers: [c] }),
      },
    });
  }
}
