<!-- The inspector: one container beside whatever page one is on, with its own address. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { reference as write, stateWords, verbs } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import { place, query } from "../lib/router.svelte";
  import { pending } from "../lib/session.svelte";
  import type { Kind } from "../lib/types";
  import Facts from "./Facts.svelte";
  import LogView from "./LogView.svelte";
  import Mark from "./Mark.svelte";
  import RawRecord from "./RawRecord.svelte";

  let { reference }: { reference: string } = $props();

  const TABS = [
    ["facts", "Facts"],
    ["logs", "Logs"],
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
  const alive = $derived(!!container && ["running", "paused", "restarting"].includes(container.state));
  const kinds: Kind[] = $derived(alive ? ["restart", "stop", "kill", "remove"] : ["start", "remove"]);
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
      </div>
      {#if container.is_self}
        <p class="soft">Gubernum itself runs in this container, so it does not change it.</p>
      {/if}
      <nav aria-label="Parts">
        {#each TABS as [name, title] (name)}
          <button
            aria-current={tab === name}
            onclick={() => query({ tab: name === "facts" ? null : name }, true)}
          >
            {title}
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
      <LogView {container} />
    {/key}
  {:else if tab === "raw"}
    {#key `${container.id} ${container.state} ${container.started ?? ""}`}
      <RawRecord reference={write(container)} />
    {/key}
  {:else}
    <Facts {container} />
  {/if}
</aside>

<style>
  .inspector {
    width: 27rem;
    flex: none;
    display: flex;
    flex-direction: column;
    min-height: 0;
    border-left: 1px solid var(--line);
    background: var(--panel);
  }
  .inspector.wide {
    width: min(46rem, 58vw);
  }
  header {
    padding: 0.9rem 1rem 0;
    border-bottom: 1px solid var(--line);
  }
  .title {
    display: flex;
    gap: 0.6rem;
    align-items: flex-start;
  }
  .title > div {
    min-width: 0;
    flex: 1;
    font-size: 0.8125rem;
  }
  h2 {
    font-size: 1rem;
    font-weight: 600;
    margin: 0;
    overflow-wrap: anywhere;
  }
  .close {
    border: 0;
    background: none;
    color: var(--cds-text-01);
    font-size: 1.4rem;
    line-height: 1;
    cursor: pointer;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
    margin: 0.7rem 0;
  }
  nav {
    display: flex;
    gap: 0.25rem;
  }
  nav button {
    border: 0;
    border-bottom: 3px solid transparent;
    background: none;
    color: var(--cds-text-01);
    font: inherit;
    font-size: 0.875rem;
    padding: 0.4rem 0.7rem;
    cursor: pointer;
  }
  nav button[aria-current="true"] {
    border-bottom-color: #e0b84c;
    font-weight: 600;
  }
</style>
