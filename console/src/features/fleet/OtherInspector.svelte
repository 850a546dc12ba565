<!-- The inspector of what is no container: facts, and where it makes sense logs, use and events. -->
<script lang="ts">
  import type { Inspected } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import Events from "../timeline/Events.svelte";
  import FilesView from "../files/FilesView.svelte";
  import LogView from "../logs/LogView.svelte";
  import Notes from "../team/Notes.svelte";
  import Others from "../team/Others.svelte";
  import OtherFacts from "./OtherFacts.svelte";
  import UseView from "../usage/UseView.svelte";

  let { what }: { what: Inspected } = $props();

  const TABS: Record<string, [string, string][]> = {
    host: [
      ["facts", "Facts"],
      ["use", "Use"],
      ["events", "Events"],
      ["notes", "Notes"],
    ],
    volume: [
      ["facts", "Facts"],
      ["files", "Files"],
      ["notes", "Notes"],
    ],
    network: [
      ["facts", "Facts"],
      ["notes", "Notes"],
    ],
    stack: [
      ["facts", "Facts"],
      ["logs", "Logs"],
      ["use", "Use"],
      ["notes", "Notes"],
    ],
  };
  const on = $derived(`${what.kind}:${what.key}`);
  const noted = $derived(live.team.noted.find((one) => one.on === on)?.notes);
  const tabs = $derived(TABS[what.kind] ?? []);
  const tab = $derived(place.query.get("tab") ?? "facts");
  const title = $derived(
    what.kind === "image" && /^[0-9a-f]{64}$/.test(what.key)
      ? what.key.slice(0, 12)
      : (what.key.split("/").at(-1) ?? ""),
  );
</script>

<aside
  class="inspector"
  class:wide={tab !== "facts"}
  aria-label={`Inspector of ${what.kind} ${what.key}`}
  data-test="inspector"
>
  <header>
    <div class="title">
      <div>
        <h2>{title.length === 64 ? title.slice(0, 12) : title}</h2>
        <span class="soft"
          >{what.kind}{what.key.includes("/") && what.kind !== "image"
            ? ` on ${what.key.split("/")[0]}`
            : ""}</span
        >
      </div>
      <button
        class="close"
        onclick={() => query({ inspect: null, tab: null })}
        aria-label="Close the inspector">×</button
      >
    </div>
    {#if what.kind !== "image"}<Others {on} />{/if}
    {#if tabs.length > 0}
      <nav aria-label="Parts">
        {#each tabs as [name, words] (name)}
          <button
            aria-current={tab === name}
            onclick={() => query({ tab: name === "facts" ? null : name }, true)}
            >{words}{name === "notes" && noted ? ` (${noted})` : ""}</button
          >
        {/each}
      </nav>
    {/if}
  </header>
  {#key `${what.kind} ${what.key}`}
    {#if tab === "use" && what.kind === "host"}
      <UseView host={what.key} />
    {:else if tab === "use" && what.kind === "stack"}
      <UseView stack={what.key} />
    {:else if tab === "files" && what.kind === "volume"}
      <FilesView kind="volume" reference={what.key} />
    {:else if tab === "logs" && what.kind === "stack"}
      <LogView stack={what.key} />
    {:else if tab === "notes" && what.kind !== "image"}
      <Notes {on} />
    {:else if tab === "events" && what.kind === "host"}
      <div class="events"><Events filter={`host=${encodeURIComponent(what.key)}`} /></div>
    {:else}
      <OtherFacts {what} />
    {/if}
  {/key}
</aside>

<style>
  .events {
    overflow-y: auto;
  }
</style>
