<!-- The inspector of everything but containers: facts, and where they exist logs, usage and events. -->
<script lang="ts">
  import type { Inspected } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { place } from "../../lib/router.svelte";
  import Events from "../timeline/Events.svelte";
  import FilesView from "../files/FilesView.svelte";
  import ImageNotes from "../images/ImageNotes.svelte";
  import InspectorFrame from "../../ui/InspectorFrame.svelte";
  import LogView from "../logs/LogView.svelte";
  import Notes from "../team/Notes.svelte";
  import ObjectPresence from "../team/ObjectPresence.svelte";
  import ObjectFacts from "./ObjectFacts.svelte";
  import UsageView from "../usage/UsageView.svelte";

  let { what }: { what: Inspected } = $props();

  const TABS: Record<string, [string, string][]> = {
    host: [
      ["facts", "Facts"],
      ["use", "Usage"],
      ["events", "Events"],
      ["notes", "Notes"],
    ],
    image: [
      ["facts", "Facts"],
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
      ["use", "Usage"],
      ["notes", "Notes"],
    ],
  };
  const on = $derived(`${what.kind}:${what.key}`);
  const noted = $derived(live.team.noted.find((one) => one.on === on)?.notes);
  const tabs = $derived(
    (TABS[what.kind] ?? []).map(
      ([name, words]) => [name, name === "notes" && noted ? `${words} (${noted})` : words] as const,
    ),
  );
  const tab = $derived(place.query.get("tab") ?? "facts");
  const title = $derived(
    what.kind === "image" && /^[0-9a-f]{64}$/.test(what.key)
      ? what.key.slice(0, 12)
      : (what.key.split("/").at(-1) ?? ""),
  );
</script>

<InspectorFrame
  label={`Inspector of ${what.kind} ${what.key}`}
  title={title.length === 64 ? title.slice(0, 12) : title}
  {tabs}
>
  {#snippet about()}
    {what.kind}{what.key.includes("/") && what.kind !== "image" ? ` on ${what.key.split("/")[0]}` : ""}
  {/snippet}
  {#snippet acts()}
    {#if what.kind !== "image"}<ObjectPresence {on} />{/if}
  {/snippet}
  {#key `${what.kind} ${what.key}`}
    {#if tab === "use" && what.kind === "host"}
      <UsageView host={what.key} />
    {:else if tab === "use" && what.kind === "stack"}
      <UsageView stack={what.key} />
    {:else if tab === "files" && what.kind === "volume"}
      <FilesView kind="volume" reference={what.key} />
    {:else if tab === "logs" && what.kind === "stack"}
      <LogView stack={what.key} />
    {:else if tab === "notes" && what.kind === "image"}
      <ImageNotes id={what.key} />
    {:else if tab === "notes"}
      <Notes {on} />
    {:else if tab === "events" && what.kind === "host"}
      <div class="events"><Events filter={`host=${encodeURIComponent(what.key)}`} /></div>
    {:else}
      <ObjectFacts {what} />
    {/if}
  {/key}
</InspectorFrame>

<style>
  .events {
    overflow-y: auto;
  }
</style>
