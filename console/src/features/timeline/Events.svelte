<!-- Events of the timeline, newest first, a page at a time. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { call, sentence } from "../../lib/api";
  import { moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import type { TimelineEvent } from "../../lib/types";
  import InlineAction from "../../ui/InlineAction.svelte";

  let { filter, slim = false }: { filter: string; slim?: boolean } = $props();

  const PAGE = 100;

  let rows = $state.raw<TimelineEvent[]>([]);
  let fetching = $state(true);
  let more = $state(false);
  let wrong = $state("");

  async function fetch(before: string) {
    const asked = filter;
    try {
      const page = await call<TimelineEvent[]>("GET", `/api/v1/timeline?${asked}&limit=${PAGE}${before}`);
      if (asked !== filter) return;
      rows = before ? [...rows, ...page] : page;
      more = page.length === PAGE;
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    } finally {
      fetching = false;
    }
  }

  $effect(() => {
    void filter;
    fetching = true;
    void fetch("");
  });

  // What is new appears by itself while the first page is shown.
  $effect(() => {
    void live.now;
    if (rows.length <= PAGE && !fetching) void fetch("");
  });

  /** The engine's events of an operation, once they are asked for. */
  let open = $state.raw(new Map<number, TimelineEvent[]>());

  async function unfold(e: TimelineEvent) {
    const next = new Map(open);
    if (next.delete(e.id)) {
      open = next;
      return;
    }
    try {
      const path = `/api/v1/timeline?operation=${e.operation}&kind=engine&host=${encodeURIComponent(e.host)}&limit=1000`;
      next.set(e.id, await call<TimelineEvent[]>("GET", path));
      open = next;
    } catch (error) {
      wrong = sentence(error);
    }
  }

  function older() {
    const last = rows.at(-1);
    if (last) void fetch(`&before=${encodeURIComponent(`${last.time},${last.id}`)}`);
  }

  function target(e: TimelineEvent): string {
    if (e.object === "container") return `?inspect=${e.host}/${e.name}`;
    if (e.object === "host") return `?inspect=host:${e.host}`;
    return "";
  }
</script>

{#if wrong}<p class="soft">{wrong}</p>{/if}
<Rows data-test="events">
  <tbody>
    {#each rows as e (e.id)}
      <tr class:bad={e.bad}>
        <td class="soft when">{moment(e.time)}</td>
        {#if !slim}
          <td class="what">
            {#if target(e)}<a href={target(e)}>{e.object === "container" ? `${e.host}/${e.name}` : e.name}</a>
            {:else}{e.host ? `${e.host}: ` : ""}{e.name.length === 64 ? e.name.slice(0, 12) : e.name}{/if}
            {#if !["container", "host", "service"].includes(e.object)}<span class="soft">{e.object}</span
              >{/if}
          </td>
        {/if}
        <td class="action">{e.bad ? "▲ " : ""}{e.action}</td>
        <td>
          {e.sentence}
          {#if e.operation}<a href={`/operations/${e.operation}`}>operation {e.operation}</a>{/if}
          {#if e.folded}
            <InlineAction aria-expanded={open.has(e.id)} data-test="folded" onclick={() => void unfold(e)}
              >{open.has(e.id) ? "Hide" : "Show"}
              {e.folded} engine event{e.folded === 1 ? "" : "s"}</InlineAction
            >
          {/if}
        </td>
        <td class="soft">{e.member ?? (e.kind === "engine" ? "engine" : "")}</td>
      </tr>
      {#each open.get(e.id) ?? [] as f (f.id)}
        <tr class="inner" class:bad={f.bad}>
          <td class="soft when">{moment(f.time)}</td>
          {#if !slim}<td class="what soft">{f.host}/{f.name.length === 64 ? f.name.slice(0, 12) : f.name}</td
            >{/if}
          <td class="action soft">{f.action}</td>
          <td class="soft">{f.sentence}</td>
          <td class="soft">engine</td>
        </tr>
      {/each}
    {:else}
      <tr><td class="soft">{fetching ? "Loading…" : "No matching events."}</td></tr>
    {/each}
  </tbody>
</Rows>
{#if more}<p class="older"><InlineAction onclick={older}>Show older</InlineAction></p>{/if}

<style>
  .when,
  .action {
    white-space: nowrap;
  }
  .bad .action {
    color: var(--state-failed);
    font-weight: 600;
  }
  .inner td:first-child {
    padding-left: 2rem;
  }
  .what {
    overflow-wrap: anywhere;
  }
  .older {
    margin: 0.7rem 0.75rem;
  }
</style>
