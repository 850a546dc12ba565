<!-- The inspector: one container beside whatever page one is on, with its own address. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { reference as write, stateWords, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import type { Container, Kind, OperationWish } from "../../lib/types";
  import Earlier from "../operations/Earlier.svelte";
  import Events from "../timeline/Events.svelte";
  import FilesView from "../files/FilesView.svelte";
  import Facts from "../../ui/Facts.svelte";
  import Inside from "../exec/Inside.svelte";
  import LogView from "../logs/LogView.svelte";
  import Mark from "../../ui/Mark.svelte";
  import Notes from "../team/Notes.svelte";
  import Others from "../team/Others.svelte";
  import RawRecord from "./RawRecord.svelte";
  import UseView from "../usage/UseView.svelte";

  let { reference }: { reference: string } = $props();

  /** Parts with the right without which they are never shown. */
  const TABS = [
    ["facts", "Facts"],
    ["logs", "Logs", "read-logs"],
    ["use", "Use"],
    ["inside", "Inside"],
    ["events", "Events"],
    ["files", "Files", "files"],
    ["terminal", "Terminal", "shell"],
    ["earlier", "Earlier"],
    ["notes", "Notes"],
    ["raw", "Raw record"],
  ] as const;

  const tabs = $derived(TABS.filter(([, , right]) => !right || session.somewhere(right)));
  const parts = $derived(reference.split("/"));
  const container = $derived.by(() => {
    // Found again with every change of the fleet.
    void live.containers;
    return live.container(parts[0] ?? "", parts[1] ?? "");
  });
  const host = $derived(live.hosts.find((h) => h.name === parts[0]));
  const tab = $derived(place.query.get("tab") ?? "facts");
  const noted = $derived(live.team.noted.find((one) => one.on === `container:${reference}`)?.notes);
  const alive = $derived(!!container && ["running", "paused", "restarting"].includes(container.state));
  const possible: Kind[] = $derived(
    container?.state === "paused"
      ? ["resume", "stop", "kill", "remove"]
      : alive
        ? ["restart", "stop", "pause", "kill", "remove"]
        : ["start", "remove"],
  );
  const kinds = $derived(possible.filter((kind) => session.mayChange(kind)));

  /** A stack's container goes with its stack. */
  function move(container: Container) {
    const targets = [write(container)];
    const request = { kind: "move", what: "container", targets, to: "" } as unknown as OperationWish;
    pending.wish = { kind: "move", containers: [], request, title: `Move ${write(container)}` };
  }
</script>

<aside
  class="inspector"
  class:wide={tab !== "facts"}
  aria-label={`Inspector of ${reference}`}
  data-test="inspector"
>
  <header>
    <div class="title">
      {#if container}<Mark {container} size={18} />{/if}
      <div>
        <h2>{parts[1]}</h2>
        <span class="soft">
          on {parts[0]}{#if container}, {stateWords(container)}{/if}{#if host?.state === "stale"}, as it was
            when the host was last seen{/if}
        </span>
      </div>
      <button
        class="close"
        onclick={() => query({ inspect: null, tab: null })}
        aria-label="Close the inspector">×</button
      >
    </div>
    {#if container}
      <div class="acts">
        {#each kinds as kind (kind)}
          <Button
            size="small"
            kind={kind === "remove" || kind === "kill" ? "danger-tertiary" : "tertiary"}
            disabled={container.is_self && kind !== "start"}
            on:click={() => (pending.wish = { kind, containers: [container] })}>{verbs[kind].ask}…</Button
          >
        {/each}
        {#if session.mayChange("update")}
          <Button
            size="small"
            kind="tertiary"
            disabled={container.is_self}
            on:click={() => (pending.wish = { kind: "update", containers: [container] })}>Update…</Button
          >
          <Button
            size="small"
            kind="ghost"
            disabled={container.is_self}
            href={`/deploy?edit=${write(container)}`}>Change settings</Button
          >
          <Button size="small" kind="ghost" href={`/deploy?from=${write(container)}`}>Duplicate</Button>
        {/if}
        {#if !container.stack && !container.is_self && session.mayChange("move")}
          <Button size="small" kind="ghost" on:click={() => move(container)}>Move…</Button>
        {/if}
      </div>
      <Others on={`container:${write(container)}`} />
      {#if container.is_self}
        <p class="soft">Gubernum itself runs in this container, so it does not change it.</p>
      {/if}
      <nav aria-label="Parts">
        {#each tabs as [name, title] (name)}
          <button
            aria-current={tab === name}
            onclick={() => query({ tab: name === "facts" ? null : name }, true)}
          >
            {title}{name === "notes" && noted ? ` (${noted})` : ""}
          </button>
        {/each}
      </nav>
    {/if}
  </header>
  {#if !container}
    <div class="empty">
      {#if live.status === "on"}
        <p>
          {reference} is not in the fleet any more. It was removed, renamed, or its host was taken out.
        </p>
      {:else}
        <p>Fetching the fleet…</p>
      {/if}
    </div>
  {:else if tab === "logs"}
    {#key container.id}
      <LogView references={[write(container)]} />
    {/key}
  {:else if tab === "use"}
    {#key write(container)}
      <UseView references={[write(container)]} />
    {/key}
  {:else if tab === "inside"}
    {#key `${container.id} ${container.state}`}
      <Inside {container} />
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
      <Earlier {container} />
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
</aside>

<style>
  .events {
    overflow-y: auto;
  }
</style>
