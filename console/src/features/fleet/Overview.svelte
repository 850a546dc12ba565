<!-- The first page: what needs a person, then where everything runs and whether it is well. -->
<script lang="ts">
  import { call } from "../../lib/api";
  import { isUp } from "./figures";
  import { age, reference, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { query } from "../../lib/router.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import { freezes } from "../team/freezes.svelte";
  import { addressOf } from "../team/words";
  import type { Container, Host, Kind, Reason } from "../../lib/types";
  import Mark from "../../ui/Mark.svelte";
  import { pageOf } from "../stacks/words";

  interface Item {
    key: string;
    where: string;
    reason: Reason;
    since: string;
    container?: Container;
    host?: Host;
    stack?: { host: string; stack: string };
  }

  const LOOSE = "(no stack)";
  const SHOWN = 8;

  let all = $state(false);

  /** What is wrong with the service itself: an altered audit log, damaged records. */
  let ofService = $state.raw<{ host: string; stack?: string | null; reason: Reason }[]>([]);
  $effect(() => {
    // A stack that is not as it was applied is told at once.
    void live.drift;
    void live.jobs;
    const look = () =>
      call<typeof ofService>("GET", "/api/v1/attention")
        .then(
          (found) =>
            (ofService = found.filter((i) => i.reason.code !== "note" && (i.host === "" || i.stack))),
        )
        .catch(() => {});
    void look();
    const timer = setInterval(() => void look(), 60_000);
    return () => clearInterval(timer);
  });

  const attention = $derived.by(() => {
    const items: Item[] = [];
    for (const host of live.hosts) {
      if (!host.attention) continue;
      const seen = host.last_seen ? `seen ${age(host.last_seen, live.now)} ago` : "never seen";
      const since = host.state === "stale" ? seen : "";
      items.push({ key: host.name, where: host.name, reason: host.attention, since, host });
    }
    for (const c of live.containers) {
      if (!c.attention) continue;
      // Since when a check fails the engine does not tell; an end has its time.
      const since = c.state === "running" ? "" : age(c.finished, live.now);
      items.push({ key: reference(c), where: reference(c), reason: c.attention, since, container: c });
    }
    for (const item of ofService) {
      const stack = item.host && item.stack ? { host: item.host, stack: item.stack } : undefined;
      const where = stack ? `${stack.host}/${stack.stack}` : "Gubernum";
      const row = live.drift.find((r) => r.host === stack?.host && r.stack === stack?.stack);
      const since = item.reason.code === "drift" ? age(row?.since, live.now) : "";
      const key = `${item.reason.code} ${where} ${item.reason.sentence}`;
      items.push({ key, where, reason: item.reason, since, stack });
    }
    // The service says where each belongs: the client lists them in the same order.
    return items.sort(
      (a, b) => a.reason.rank - b.reason.rank || (a.key < b.key ? -1 : a.key > b.key ? 1 : 0),
    );
  });

  const urgent = $derived(attention.filter((a) => a.reason.severity !== "notice").length);
  const newer = $derived(attention.filter((a) => a.reason.code === "newer-image").length);

  /** What one would press first: what loops is stopped, what fails its check restarted, what ended started. */
  function remedy(c: Container): Kind {
    if (c.attention?.severity === "notice") return "update";
    if (c.state === "restarting" || c.attention?.code === "restart-loop") return "stop";
    return c.state === "running" ? "restart" : "start";
  }

  /** What a start cannot mend: the settings, or something on the host, come first. */
  const SETTINGS_FIRST = new Set([
    "port-taken",
    "command-not-found",
    "not-executable",
    "wrong-architecture",
    "mount-missing",
    "mount-mismatch",
    "network-missing",
    "device-missing",
  ]);

  const shown = $derived(all ? attention : attention.slice(0, SHOWN));

  const matrix = $derived.by(() => {
    const rows = new Map<string, Map<string, Container[]>>();
    for (const c of live.containers) {
      const stack = c.stack ?? LOOSE;
      let row = rows.get(stack);
      if (!row) rows.set(stack, (row = new Map()));
      const cell = row.get(c.host);
      if (cell) cell.push(c);
      else row.set(c.host, [c]);
    }
    for (const row of rows.values()) for (const cell of row.values()) cell.sort(byName);
    return [...rows].sort(
      (a, b) => Number(a[0] === LOOSE) - Number(b[0] === LOOSE) || a[0].localeCompare(b[0]),
    );
  });

  function byName(a: Container, b: Container): number {
    return a.name.localeCompare(b.name);
  }

  const counts = $derived.by(() => {
    const up = live.containers.filter(isUp).length;
    return { up, all: live.containers.length, hosts: live.hosts.length };
  });
</script>

<h1>
  {#if urgent > 0}
    {urgent === 1 ? "1 thing needs" : `${urgent} things need`} attention
  {:else if live.hosts.length > 0}
    All is well
  {:else}
    The fleet is empty
  {/if}
  <small class="soft"
    >{newer > 0 ? `${newer} could have a newer image; ` : ""}{counts.up} of {counts.all} containers are up on {counts.hosts}
    hosts</small
  >
  {#if live.hosts.length > 0 && session.mayChange("deploy")}
    <button class="link freeze" onclick={() => (freezes.isAsking = true)}>Freeze changes…</button>
  {/if}
</h1>

{#if live.status !== "on" && live.hosts.length === 0}
  <p class="soft">Fetching the fleet…</p>
{:else if live.hosts.length === 0}
  <div class="empty">
    <p>Connect the first host, and its containers appear here by themselves.</p>
    <a href="/hosts">Add a host</a>
  </div>
{:else}
  {#if attention.length > 0 || live.team.pinned.length > 0}
    <table class="rows attention" data-test="attention">
      <tbody>
        {#each live.team.pinned as note (note.id)}
          <tr class="notice" data-test="pinned">
            <td class="mark"><span title="Pinned note">✎</span></td>
            <td class="where"><a href={addressOf(note.on)}>{note.on.slice(note.on.indexOf(":") + 1)}</a></td>
            <td>
              <div class="note">{note.text}</div>
              <div class="soft">{note.author}</div>
            </td>
            <td class="soft since">{age(note.edited ?? note.created, live.now)}</td>
            <td class="act"><a href={addressOf(note.on)}>Notes</a></td>
          </tr>
        {/each}
        {#each shown as item (item.key)}
          <tr class={item.reason.severity}>
            <td class="mark">
              {#if item.container}<Mark container={item.container} size={16} />{:else}<span
                  class="lost"
                  title={item.reason.sentence}>{item.reason.code === "host-lost" ? "⌁" : "▲"}</span
                >{/if}
            </td>
            <td class="where">
              {#if item.container}
                <button class="link" onclick={() => query({ inspect: item.where })}>{item.where}</button>
              {:else if item.stack}
                <a
                  href={pageOf(
                    item.stack.host,
                    item.stack.stack,
                    item.reason.code.startsWith("job") ? "jobs" : undefined,
                  )}>{item.where}</a
                >
              {:else if !item.host}
                {item.where}
              {:else}
                <button class="link" onclick={() => query({ inspect: `host:${item.where}` })}
                  >{item.where}</button
                >
              {/if}
            </td>
            <td>
              <div>{item.reason.sentence}</div>
              <div class="soft">{item.reason.advice}</div>
            </td>
            <td class="soft since">{item.since}</td>
            <td class="act">
              {#if item.container}
                {@const c = item.container}
                <button class="link" onclick={() => query({ inspect: item.where, tab: "logs" })}>Logs</button>
                {#if item.reason.because}
                  {@const cause = item.reason.because}
                  <button class="link" onclick={() => query({ inspect: cause })}>{cause}</button>
                {:else if SETTINGS_FIRST.has(item.reason.code)}
                  <a href={`/deploy?edit=${encodeURIComponent(item.where)}`}>Change settings</a>
                {:else if item.reason.code === "no-space"}
                  <button class="link" onclick={() => query({ inspect: `host:${c.host}` })}>{c.host}</button>
                {:else}
                  <button class="link" onclick={() => (pending.wish = { kind: remedy(c), containers: [c] })}>
                    {verbs[remedy(c)].ask}…
                  </button>
                {/if}
              {/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if attention.length > SHOWN}
      <button class="link more" onclick={() => (all = !all)}>
        {all ? "Show the worst only" : `Show ${attention.length - SHOWN} more`}
      </button>
    {/if}
  {/if}

  <h2>Where everything runs</h2>
  <div class="scroll">
    <table class="rows matrix" data-test="matrix">
      <thead>
        <tr>
          <th>Stack</th>
          {#each live.hosts as host (host.name)}
            <th class:stale={host.state !== "live"}>
              <a href={`/containers?hosts=${host.name}`}>{host.name}</a>
              {#if host.state === "stale"}<small>out of reach</small>{/if}
              {#if host.state === "connecting"}<small>connecting</small>{/if}
            </th>
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each matrix as [stack, row] (stack)}
          <tr>
            <th scope="row">
              <a href={`/containers?stacks=${encodeURIComponent(stack === LOOSE ? "(none)" : stack)}`}
                >{stack}</a
              >
            </th>
            {#each live.hosts as host (host.name)}
              <td class:stale={host.state !== "live"}>
                {#each row.get(host.name) ?? [] as c (c.id)}
                  <button
                    class="cell"
                    class:needs={c.attention}
                    onclick={() => query({ inspect: reference(c) })}
                    title={`${c.name}: ${c.attention?.sentence ?? c.state}`}
                  >
                    <Mark container={c} />
                    {c.service ?? c.name}
                  </button>
                {/each}
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}

<style>
  .note {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .freeze {
    float: right;
    font-size: 0.8125rem;
    font-weight: 400;
  }
  h1 small {
    font-size: 0.875rem;
    font-weight: 400;
    margin-left: 0.75rem;
  }
  .attention .mark {
    width: 2rem;
    padding-right: 0;
  }
  .attention tr.trouble {
    box-shadow: inset 3px 0 0 var(--state-failed);
  }
  .attention tr.warning {
    box-shadow: inset 3px 0 0 var(--state-halted);
  }
  .where {
    font-weight: 600;
    white-space: nowrap;
  }
  .since,
  .act {
    white-space: nowrap;
    text-align: right;
  }
  .act button + button {
    margin-left: 0.9rem;
  }
  .lost {
    color: var(--state-failed);
    font-weight: 600;
  }
  .more {
    margin-top: 0.5rem;
    font-size: 0.875rem;
  }
  .scroll {
    overflow-x: auto;
  }
  .matrix th[scope="row"] {
    white-space: nowrap;
    vertical-align: top;
  }
  .matrix th small {
    display: block;
    color: var(--state-failed);
    font-weight: 400;
  }
  .matrix td.stale {
    opacity: 0.55;
  }
  .matrix a {
    color: inherit;
    text-decoration: none;
  }
  .matrix a:hover {
    text-decoration: underline;
  }
  .cell {
    display: inline-flex;
    align-items: center;
    gap: 0.35rem;
    margin: 0 0.7rem 0.2rem 0;
    padding: 0.1rem 0.2rem;
    border: 0;
    background: none;
    color: var(--cds-text-01);
    font: inherit;
    font-size: 0.8125rem;
    cursor: pointer;
    white-space: nowrap;
  }
  .cell:hover {
    background: var(--cds-hover-ui);
  }
  .cell.needs {
    font-weight: 600;
  }
</style>
