<!-- One stack on one host: whether it is as it was applied, its services, its map, its text and its revisions; all that can be done
with it as one. -->
<script lang="ts">
  import {
    Button,
    InlineNotification,
    OverflowMenu,
    OverflowMenuItem,
    Tab,
    TabContent,
    Tabs,
  } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { live } from "../../lib/live.svelte";
  import { go, place, query } from "../../lib/router.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { Container, Kind, OperationWish, StackRevision } from "../../lib/types";
  import { needsAttention } from "../fleet/figures";
  import { inspect } from "../fleet/inspect";
  import LogView from "../logs/LogView.svelte";
  import { ofStack } from "../map/graphs";
  import MapList from "../map/MapList.svelte";
  import MapView from "../map/MapView.svelte";
  import Events from "../timeline/Events.svelte";
  import Notes from "../team/Notes.svelte";
  import ObjectPresence from "../team/ObjectPresence.svelte";
  import UsageView from "../usage/UsageView.svelte";
  import Definition from "./Definition.svelte";
  import DriftView from "./DriftView.svelte";
  import Jobs from "./Jobs.svelte";
  import Revisions from "./Revisions.svelte";
  import Source from "./Source.svelte";
  import StackServices from "./StackServices.svelte";
  import { editOf } from "./words";
  import InlineAction from "../../ui/InlineAction.svelte";
  import Switcher from "../../ui/Switcher.svelte";

  let { host, stack }: { host: string; stack: string } = $props();

  const PARTS = ["services", "jobs", "map", "text", "revisions", "source", "logs", "use", "events", "notes"];
  const WORDS = [
    "Services",
    "Jobs",
    "Map",
    "Compose files",
    "Revisions",
    "Source",
    "Logs",
    "Usage",
    "Events",
    "Notes",
  ];

  const containers = $derived(live.containers.filter((c) => c.host === host && c.stack === stack));
  const drift = $derived(live.drift.find((row) => row.host === host && row.stack === stack));
  const running = $derived(containers.filter((c) => c.state === "running").length);
  const troubled = $derived(containers.filter(needsAttention).length);
  const part = $derived(Math.max(0, PARTS.indexOf(place.query.get("part") ?? "services")));
  const graph = $derived(ofStack(containers));
  let asList = $state(false);

  let revisions = $state.raw<StackRevision[] | null>(null);
  let wrong = $state("");
  const base = $derived(`/api/v1/stacks/${encodeURIComponent(host)}/${encodeURIComponent(stack)}`);
  const newest = $derived(drift?.revision);
  $effect(() => {
    // What was applied meanwhile has a revision of its own.
    void newest;
    call<StackRevision[]>("GET", `${base}/revisions`)
      .then((all) => ([revisions, wrong] = [all, ""]))
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  function change(kind: Kind, all: Container[]) {
    const words = {
      start: "Start",
      stop: "Stop",
      restart: "Restart",
      update: "Update",
      pause: "Pause",
      resume: "Resume",
    };
    pending.wish = {
      kind,
      containers: all,
      title: `${words[kind as keyof typeof words] ?? kind} the stack ${stack}`,
    };
  }

  const rests = $derived(containers.filter((c) => c.state !== "running" && c.state !== "paused"));
  const runs = $derived(containers.filter((c) => c.state === "running"));
  const paused = $derived(containers.filter((c) => c.state === "paused"));

  function remove() {
    const request = { kind: "remove-stack", targets: [host], stack } as OperationWish;
    pending.wish = {
      kind: "remove-stack",
      containers: [],
      request,
      title: `Remove the stack ${stack} from ${host}`,
    };
  }

  function goes(kind: "move" | "clone") {
    const targets = [`${host}/${stack}`];
    const request = { kind, what: "stack", targets, to: "" } as unknown as OperationWish;
    const title =
      kind === "move" ? `Move the stack ${stack} from ${host}` : `Clone the stack ${stack} from ${host}`;
    pending.wish = { kind, containers: [], request, title };
  }

  async function adopt() {
    try {
      await call("POST", `${base}/adopt`);
      revisions = await call<StackRevision[]>("GET", `${base}/revisions`);
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }
</script>

<div class="head">
  <h1>{stack} <small class="soft">on {host}</small></h1>
  <p class:bad={troubled > 0}>
    {running} of {containers.length} running{troubled
      ? `, ${troubled} ${troubled === 1 ? "needs" : "need"} attention`
      : ""}
    {#if newest}<span class="soft">· revision {newest}</span>{/if}
  </p>
  <div class="acts">
    <Button size="small" href={editOf(host, stack)}>Edit</Button>
    <Button
      size="small"
      kind="tertiary"
      disabled={runs.length === 0}
      on:click={() => change("update", containers)}>Update…</Button
    >
    <Button size="small" kind="tertiary" disabled={runs.length === 0} on:click={() => change("restart", runs)}
      >Restart…</Button
    >
    <Button size="small" kind="tertiary" disabled={runs.length === 0} on:click={() => change("stop", runs)}
      >Stop…</Button
    >
    <Button size="small" kind="tertiary" disabled={rests.length === 0} on:click={() => change("start", rests)}
      >Start…</Button
    >
    <OverflowMenu flipped size="sm" iconDescription="More">
      <OverflowMenuItem text="Pause…" disabled={runs.length === 0} on:click={() => change("pause", runs)} />
      <OverflowMenuItem
        text="Resume…"
        disabled={paused.length === 0}
        on:click={() => change("resume", paused)}
      />
      <OverflowMenuItem
        text="Move…"
        disabled={containers.length === 0 || revisions?.length === 0}
        on:click={() => goes("move")}
      />
      <OverflowMenuItem
        text="Clone to…"
        disabled={containers.length === 0 || revisions?.length === 0}
        on:click={() => goes("clone")}
      />
      <OverflowMenuItem danger text="Remove…" disabled={containers.length === 0} on:click={remove} />
    </OverflowMenu>
  </div>
</div>
{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
{#if revisions?.length === 0 && containers.length > 0}
  <div class="note">
    <InlineNotification
      kind="info"
      lowContrast
      hideCloseButton
      title="This stack was not deployed from here."
      subtitle="Adopt it to save its Compose file as revision 1; nothing is changed."
    >
      <svelte:fragment slot="actions">
        <Button size="small" kind="ghost" on:click={() => void adopt()}>Adopt it</Button>
      </svelte:fragment>
    </InlineNotification>
  </div>
{/if}
{#if drift && (drift.differs.length > 0 || drift.unknown)}
  <div class="note"><DriftView {host} {stack} row={drift} onadopt={adopt} /></div>
{/if}
<ObjectPresence on={`stack:${host}/${stack}`} />
<div class="tabs">
  <Tabs
    selected={part}
    on:change={(e) => {
      const name = PARTS[e.detail] ?? "services";
      if (e.detail !== part) query({ part: name === "services" ? null : name }, true);
    }}
  >
    {#each WORDS as words (words)}<Tab label={words} />{/each}
    <svelte:fragment slot="content">
      {#each PARTS as name, n (name)}<TabContent><span hidden>{n}</span></TabContent>{/each}
    </svelte:fragment>
  </Tabs>
</div>
<div class="part">
  <h2 class="bx--visually-hidden">{WORDS[part]}</h2>
  {#if part === 0}
    {#if containers.length === 0}
      <div class="empty">
        <p>
          {live.status !== "on" ? "Loading the fleet…" : `No container of the stack ${stack} is on ${host}.`}
          {#if revisions && revisions.length > 0}Its revisions are kept; roll back to one to deploy it again.{/if}
        </p>
        <Button size="small" kind="tertiary" on:click={() => go("/stacks")}>All stacks</Button>
      </div>
    {:else}
      <StackServices {host} {stack} {containers} revision={revisions?.[0]?.number} />
    {/if}
  {:else if part === 1}
    <Jobs {host} {stack} />
  {:else if part === 2}
    <div class="tools">
      <Switcher
        name="Shown as"
        value={asList}
        options={[
          [false, "Map"],
          [true, "List"],
        ]}
        onchange={(list) => (asList = list)}
      />
    </div>
    {#if asList}
      <MapList {graph} onpick={(n) => n.inspect && query({ inspect: n.inspect, tab: null })} />
    {:else}
      <div class="map">
        <MapView
          {graph}
          label={`Map of ${stack}`}
          onpick={(n) => n.inspect && query({ inspect: n.inspect, tab: null })}
        />
      </div>
    {/if}
  {:else if part === 3}
    {#if revisions && revisions[0]}
      {#key revisions[0].number}<Definition {host} {stack} number={revisions[0].number} />{/key}
    {:else if revisions}
      <p class="soft">No Compose file is saved.</p>
    {/if}
  {:else if part === 4}
    {#if revisions}<Revisions {host} {stack} {revisions} />{/if}
  {:else if part === 5}
    <Source {host} {stack} />
  {:else if part === 6}
    <div class="tall"><LogView {stack} /></div>
  {:else if part === 7}
    <div class="tall"><UsageView {stack} /></div>
  {:else if part === 9}
    <Notes on={`stack:${host}/${stack}`} />
  {:else}
    <Events filter={`host=${encodeURIComponent(host)}&stack=${encodeURIComponent(stack)}`} />
  {/if}
</div>
{#if part === 0 && containers.length > 0}
  <p class="soft more">
    <InlineAction onclick={() => inspect("stack", stack)}>{stack} on all hosts</InlineAction>
  </p>
{/if}

<style>
  .head {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.3rem 1rem;
    padding: 0.9rem 1.5rem 0.6rem;
  }
  .head h1 {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .head small {
    font-weight: 400;
    font-size: 0.875rem;
  }
  .head p {
    flex: 1;
    min-width: 10rem;
  }
  .bad {
    color: var(--state-failed);
    font-weight: 600;
  }
  .bad .soft {
    font-weight: 400;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
  }
  .note {
    padding: 0 1.5rem;
  }
  .note :global(.bx--inline-notification) {
    max-width: none;
    margin: 0 0 0.5rem;
  }
  .tabs :global(.bx--tab-content) {
    display: none;
  }
  .tabs {
    padding: 0 1.5rem;
    border-bottom: 1px solid var(--line);
  }
  .part {
    flex: 1;
    min-height: 0;
    overflow: auto;
    padding: 0.8rem 1.5rem;
    display: flex;
    flex-direction: column;
  }
  .map {
    flex: 1;
    min-height: 20rem;
    margin-top: 0.5rem;
  }
  .tall {
    flex: 1;
    min-height: 20rem;
    display: flex;
    flex-direction: column;
  }
  .more {
    padding: 0 1.5rem 0.6rem;
  }
  @container (max-width: 40rem) {
    .head,
    .part,
    .tabs,
    .note,
    .more {
      padding-left: 1rem;
      padding-right: 1rem;
    }
  }
</style>
