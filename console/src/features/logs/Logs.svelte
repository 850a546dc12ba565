<!-- Logs of any selection in one view, and the rules by which lines are kept. -->
<script lang="ts">
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import KeptLogs from "./KeptLogs.svelte";
  import LogView from "./LogView.svelte";

  const refs = $derived((place.query.get("refs") ?? "").split(",").filter(Boolean));
  const stack = $derived(place.query.get("stack") ?? "");
  const label = $derived(place.query.get("label") ?? "");
  const stacks = $derived(
    [...new Set(live.containers.map((c) => c.stack).filter((s): s is string => !!s))].sort(),
  );
  let draft = $derived(refs.join(", "));
  let keeping = $state(false);
  const chosen = $derived(refs.length > 0 || !!stack || !!label);

  function apply() {
    query({
      refs: draft
        .split(/[\s,]+/)
        .filter(Boolean)
        .join(","),
      stack: null,
      label: null,
    });
  }
</script>

<div class="tools bar">
  <h1>Logs</h1>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      apply();
    }}
  >
    <input
      class="filter"
      id="filter"
      placeholder="Whose: packhouse/frostwatch-api-1, */frost-*"
      aria-label="Whose logs"
      bind:value={draft}
      data-test="refs"
    />
    <button type="submit">Show</button>
  </form>
  <select
    aria-label="Stack"
    value={stack}
    onchange={(e) => query({ stack: e.currentTarget.value || null, refs: null })}
  >
    <option value="">or a stack…</option>
    {#each stacks as name (name)}<option value={name}>{name}</option>{/each}
  </select>
  <span class="push"></span>
  <button aria-pressed={keeping} onclick={() => (keeping = !keeping)}>Kept logs…</button>
</div>
{#if keeping}
  <KeptLogs />
{/if}
{#if chosen}
  {#key `${refs.join()} ${stack} ${label}`}
    <LogView references={refs} {stack} {label} />
  {/key}
{:else}
  <div class="empty">
    <p>
      Say whose logs: a container as <code>host/name</code>, several with <code>*</code>, or a stack. Or
      choose rows in the list of containers and press “Logs together”.
    </p>
    <button class="link" onclick={() => query({ refs: "*/*" })}>Show all containers' logs</button>
  </div>
{/if}

<style>
  form {
    display: contents;
  }
</style>
