<!-- The inspector: one container beside whatever page one is on, with its own address. -->
<script lang="ts">
  import { reference as write, stateWords } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { place } from "../../lib/router.svelte";
  import { session } from "../../lib/session.svelte";
  import ContainerActions from "./ContainerActions.svelte";
  import EarlierRevisions from "../operations/EarlierRevisions.svelte";
  import Events from "../timeline/Events.svelte";
  import FilesView from "../files/FilesView.svelte";
  import Facts from "../../ui/Facts.svelte";
  import Processes from "../exec/Processes.svelte";
  import InspectorFrame from "../../ui/InspectorFrame.svelte";
  import LogView from "../logs/LogView.svelte";
  import StateMark from "../../ui/StateMark.svelte";
  import Notes from "../team/Notes.svelte";
  import ObjectPresence from "../team/ObjectPresence.svelte";
  import RawRecord from "./RawRecord.svelte";
  import UsageView from "../usage/UsageView.svelte";

  let { reference }: { reference: string } = $props();

  /** Parts with the right without which they are never shown. */
  const TABS = [
    ["facts", "Facts"],
    ["logs", "Logs", "read-logs"],
    ["use", "Usage"],
    ["inside", "Processes"],
    ["events", "Events"],
    ["files", "Files", "files"],
    ["terminal", "Terminal", "shell"],
    ["earlier", "Revisions"],
    ["notes", "Notes"],
    ["raw", "Raw record"],
  ] as const;

  const parts = $derived(reference.split("/"));
  const container = $derived.by(() => {
    // Found again with every change of the fleet.
    void live.containers;
    return live.container(parts[0] ?? "", parts[1] ?? "");
  });
  const host = $derived(live.hosts.find((h) => h.name === parts[0]));
  const tab = $derived(place.query.get("tab") ?? "facts");
  const noted = $derived(live.team.noted.find((one) => one.on === `container:${reference}`)?.notes);
  const tabs = $derived(
    TABS.filter(([, , right]) => !right || session.somewhere(right)).map(
      ([name, words]) => [name, name === "notes" && noted ? `${words} (${noted})` : words] as const,
    ),
  );
</script>

<InspectorFrame label={`Inspector of ${reference}`} title={parts[1] ?? ""} tabs={container ? tabs : []}>
  {#snippet mark()}
    {#if container}<StateMark {container} size={18} />{/if}
  {/snippet}
  {#snippet about()}
    on {parts[0]}{#if container}, {stateWords(container)}{/if}{#if host?.state === "stale"}, as last seen{/if}
  {/snippet}
  {#snippet acts()}
    {#if container}
      <ContainerActions {container} />
      <ObjectPresence on={`container:${write(container)}`} />
      {#if container.is_self}
        <p class="soft">Gubernum itself runs in this container, so it does not change it.</p>
      {/if}
    {/if}
  {/snippet}
  {#if !container}
    <div class="empty">
      {#if live.status === "on"}
        <p>
          {reference} is no longer in the fleet. It was removed or renamed, or its host was removed.
        </p>
      {:else}
        <p>Loading the fleet…</p>
      {/if}
    </div>
  {:else if tab === "logs"}
    {#key container.id}
      <LogView references={[write(container)]} />
    {/key}
  {:else if tab === "use"}
    {#key write(container)}
      <UsageView references={[write(container)]} />
    {/key}
  {:else if tab === "inside"}
    {#key `${container.id} ${container.state}`}
      <Processes {container} />
    {/key}
  {:else if tab === "files"}
    {#key container.id}
      <FilesView kind="container" reference={write(container)} />
    {/key}
  {:else if tab === "terminal"}
    {#key container.id}
      {#await import("../exec/TerminalView.svelte") then { default: TerminalView }}
        <TerminalView {container} />
      {/await}
    {/key}
  {:else if tab === "earlier"}
    {#key container.id}
      <EarlierRevisions {container} />
    {/key}
  {:else if tab === "events"}
    <div class="events"><Events filter={`object=${encodeURIComponent(write(container))}`} slim /></div>
  {:else if tab === "notes"}
    {#key container.id}<Notes on={`container:${write(container)}`} />{/key}
  {:else if tab === "raw"}
    {#key `${container.id} ${container.state} ${container.started ?? ""}`}
      <RawRecord reference={write(container)} />
    {/key}
  {:else}
    <Facts {container} />
  {/if}
</InspectorFrame>

<style>
  .events {
    overflow-y: auto;
  }
</style>
