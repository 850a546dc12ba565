<script module lang="ts">
  /** Opens the inspector beside the page; with a modifier key the browser opens the link as always. */
  function open(event: MouseEvent, to: Record<string, string>) {
    if (event.ctrlKey || event.metaKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    query({ tab: null, ...to });
  }
</script>

<!-- What needs attention, worst first, each with its reason and what one would press. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";

  import { age, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { query } from "../../lib/router.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import type { Container, Kind } from "../../lib/types";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import StateMark from "../../ui/StateMark.svelte";
  import { pageOf } from "../stacks/words";
  import { addressOf } from "../team/words";
  import type { Item } from "./attention.svelte";

  let {
    items,
    pinned = true,
    onsnooze,
  }: {
    items: Item[];
    /** Pinned notes are before them. */
    pinned?: boolean;
    onsnooze?: (item: Item) => void;
  } = $props();

  const SHOWN = 8;

  let all = $state(false);
  const shown = $derived(all ? items : items.slice(0, SHOWN));

  /** What one would press first: what loops is stopped, what fails its check restarted, what ended started. */
  function remedy(c: Container): Kind {
    if (c.attention?.severity === "notice") return "update";
    if (c.state === "restarting" || c.attention?.code === "restart-loop") return "stop";
    return c.state === "running" ? "restart" : "start";
  }

  /** What a start cannot fix: the settings, or something on the host, come first. */
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
</script>

{#snippet inspects(reference: string, text: string)}
  <a href={`?inspect=${reference}`} onclick={(event) => open(event, { inspect: reference })}>{text}</a>
{/snippet}

<ul data-test="attention">
  {#each pinned ? live.team.pinned : [] as note (note.id)}
    <li class="notice" data-test="pinned">
      <span class="mark" title="Pinned note">✎</span>
      <a class="where" href={addressOf(note.on)}>{note.on.slice(note.on.indexOf(":") + 1)}</a>
      <div class="why">
        <div class="note">{note.text}</div>
        <div class="soft">{note.author}</div>
      </div>
      <span class="soft since">{age(note.edited ?? note.created, live.now)}</span>
      <span class="act"><a href={addressOf(note.on)}>Notes</a></span>
    </li>
  {/each}
  {#each shown as item (item.key)}
    <li class={item.reason.severity}>
      <span class="mark">
        {#if item.container}<StateMark container={item.container} size={16} />{:else}<span
            class="lost"
            title={item.reason.sentence}>{item.reason.code === "host-lost" ? "⌁" : "▲"}</span
          >{/if}
      </span>
      <span class="where">
        {#if item.container}{@render inspects(item.where, item.where)}
        {:else if item.host}{@render inspects(`host:${item.where}`, item.where)}
        {:else if item.stack}
          {@const part = item.reason.code.startsWith("job") ? "jobs" : undefined}
          <a href={pageOf(item.stack.host, item.stack.stack, part)}>{item.where}</a>
        {:else}{item.where}{/if}
      </span>
      <div class="why">
        <div><QuotedSentence text={item.reason.sentence} /></div>
        <div class="soft"><QuotedSentence text={item.reason.advice} /></div>
      </div>
      <span class="soft since">{item.since}</span>
      <span class="act">
        {#if item.container}
          {@const c = item.container}
          {@const kind = remedy(c)}
          {#if session.somewhere("read-logs")}
            <a
              href={`?inspect=${item.where}&tab=logs`}
              onclick={(event) => open(event, { inspect: item.where, tab: "logs" })}>Logs</a
            >
          {/if}
          {#if item.reason.because}{@render inspects(item.reason.because, item.reason.because)}
          {:else if SETTINGS_FIRST.has(item.reason.code)}
            <a href={`/deploy?edit=${encodeURIComponent(item.where)}`}>Change settings</a>
          {:else if item.reason.code === "no-space"}{@render inspects(`host:${c.host}`, c.host)}
          {:else if session.mayChange(kind)}
            <Button size="small" kind="ghost" on:click={() => (pending.wish = { kind, containers: [c] })}
              >{verbs[kind].ask}…</Button
            >
          {/if}
        {/if}
        {#if onsnooze && session.somewhere("start-stop")}
          <InlineAction onclick={() => onsnooze(item)} aria-label={`Snooze ${item.where}`}
            >Snooze…</InlineAction
          >
        {/if}
      </span>
    </li>
  {/each}
</ul>
{#if items.length > SHOWN}
  <Button size="small" kind="ghost" on:click={() => (all = !all)}
    >{all ? "Show fewer" : `Show ${items.length - SHOWN} more`}</Button
  >
{/if}

<style>
  li {
    display: grid;
    grid-template-columns: 1.5rem minmax(11rem, 1fr) minmax(0, 3fr) 5rem 13rem;
    grid-template-areas: "mark where why since act";
    gap: 0.2rem 0.75rem;
    align-items: start;
    padding: 0.45rem 0.75rem;
    border-bottom: 1px solid var(--line);
    font-size: 0.875rem;
  }
  li.trouble {
    box-shadow: inset 3px 0 0 var(--state-failed);
  }
  li.warning {
    box-shadow: inset 3px 0 0 var(--state-halted);
  }
  .mark {
    grid-area: mark;
  }
  .where {
    grid-area: where;
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  .why {
    grid-area: why;
    overflow-wrap: anywhere;
  }
  .note {
    white-space: pre-wrap;
  }
  .since {
    grid-area: since;
    text-align: right;
    white-space: nowrap;
  }
  .act {
    grid-area: act;
    display: flex;
    flex-wrap: wrap;
    justify-content: flex-end;
    align-items: center;
    gap: 0.25rem 0.75rem;
  }
  .act :global(.bx--btn) {
    min-height: 1.25rem;
    padding-block: 0;
    margin: 0 -0.75rem 0 0;
  }
  .lost {
    color: var(--state-failed);
    font-weight: 600;
  }
  @container (max-width: 54rem) {
    li {
      grid-template-columns: 1.5rem minmax(0, 1fr) auto;
      grid-template-areas: "mark where since" "mark why why" "mark act act";
    }
    .act {
      justify-content: flex-start;
      min-height: 2rem;
    }
    .act :global(.bx--btn) {
      min-height: 2rem;
    }
  }
</style>
