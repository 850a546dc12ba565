<!-- Events of the timeline, newest first, a page at a time. -->
<script lang="ts">
  import { call, sentence } from "../lib/api";
  import { moment } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { TimelineEvent } from "../lib/types";

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
<table class="rows" data-test="events">
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
        </td>
        <td class="soft">{e.member ?? (e.kind === "engine" ? "engine" : "")}</td>
      </tr>
    {:else}
      <tr><td class="soft">{fetching ? "Fetching…" : "Nothing has happened that fits."}</td></tr>
    {/each}
  </tbody>
</table>
{#if more}<button class="link older" onclick={older}>Show older ones</button>{/if}

<style>
  .when,
  .action {
    white-space: nowrap;
  }
  .bad .action {
    color: var(--state-failed);
    font-weight: 600;
  }
  .what {
    overflow-wrap: anywhere;
  }
  .older {
    margin: 0.7rem 0.75rem;
    font-size: 0.875rem;
  }
</style>
