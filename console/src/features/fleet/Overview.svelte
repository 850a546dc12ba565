<!-- The first page: what needs attention, then where everything runs and whether it is well. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";

  import { number } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import Lazy from "../../shell/Lazy.svelte";
  import { freezes } from "../team/freezes.svelte";
  import { place, query } from "../../lib/router.svelte";
  import Switcher from "../../ui/Switcher.svelte";
  import { attention, type Item } from "./attention.svelte";
  import AttentionList from "./AttentionList.svelte";
  import { isUp } from "./figures";
  import RecentChanges from "./RecentChanges.svelte";
  import Snoozed from "./Snoozed.svelte";
  import Matrix from "./Matrix.svelte";

  const all = $derived(attention.items);
  const items = $derived(all.filter((item) => !item.snoozed));
  const snoozed = $derived(all.filter((item) => item.snoozed));
  const urgent = $derived(attention.urgent);
  let snoozing = $state.raw<Item | null>(null);
  const snooze = (item: Item) => (snoozing = item);
  const newer = $derived(items.filter((item) => item.reason.code === "newer-image").length);
  /** So few are seen at once without groups. */
  const FEW = 3;
  const GROUPS = [
    ["", "Worst first"],
    ["host", "By host"],
    ["stack", "By stack"],
  ] as const;
  const grouped = $derived(place.query.get("group") ?? "");
  /** Groups in the order of their worst. */
  const groups = $derived.by(() => {
    const found = new Map<string, Item[]>();
    for (const item of items) {
      const name = grouped === "host" ? hostOf(item) : stackOf(item);
      found.set(name, [...(found.get(name) ?? []), item]);
    }
    return [...found];
  });
  const hostOf = (item: Item) => item.container?.host ?? item.host?.name ?? item.stack?.host ?? "Gubernum";
  const stackOf = (item: Item) => item.container?.stack ?? item.stack?.stack ?? "No stack";
  const up = $derived(live.containers.filter(isUp).length);
</script>

<div class="top-line">
  <h1>
    {#if urgent > 0}
      {urgent === 1 ? "1 thing needs" : `${urgent} things need`} attention
    {:else if live.hosts.length > 0}
      Nothing needs attention
    {:else}
      The fleet is empty
    {/if}
    <small class="soft"
      >{snoozed.length > 0 ? `${snoozed.length} snoozed; ` : ""}{newer > 0
        ? `${newer} with a newer image; `
        : ""}{number(up)} of {number(live.containers.length)} containers are up on {live.hosts.length} hosts</small
    >
  </h1>
  {#if live.hosts.length > 0 && session.mayChange("deploy")}
    <Button size="small" kind="ghost" on:click={() => (freezes.isAsking = true)}>Freeze changes…</Button>
  {/if}
</div>

{#if live.status !== "on" && live.hosts.length === 0}
  <p class="soft">Loading…</p>
{:else if live.hosts.length === 0}
  <div class="empty">
    <p>Four steps to a working fleet:</p>
    <ol>
      <li><a href="/hosts">Connect a host</a>; its containers appear here automatically.</li>
      <li>Look at <a href="/containers">Containers</a>: what runs, its logs, its usage.</li>
      <li><a href="/deploy">Deploy</a> a container, or a <a href="/stacks/edit">stack</a>.</li>
      <li>Invite your team on the <a href="/members">Members</a> page.</li>
    </ol>
  </div>
{:else}
  <div class="now">
    {#if all.length > 0 || live.team.pinned.length > 0}
      <section aria-label="What needs attention">
        {#if items.length > FEW}
          <Switcher
            name="Grouped by"
            value={grouped}
            options={GROUPS}
            onchange={(by) => query({ group: by || null }, true)}
          />
        {/if}
        {#if grouped && items.length > 0}
          {#each groups as [name, of] (name)}
            <h2>{name} <small class="soft">{of.length}</small></h2>
            <AttentionList items={of} pinned={false} onsnooze={snooze} />
          {/each}
        {:else}
          <AttentionList {items} onsnooze={snooze} />
        {/if}
        {#if snoozed.length > 0}<Snoozed items={snoozed} />{/if}
      </section>
    {/if}
    <RecentChanges />
  </div>
  <Matrix />
{/if}
{#if snoozing}
  <Lazy
    part={() => import("./SnoozeDialog.svelte")}
    with={{ item: snoozing, onclose: () => (snoozing = null) }}
  />
{/if}

<style>
  .top-line {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    align-items: flex-start;
    gap: 0 1rem;
  }
  small {
    font-size: 0.875rem;
    font-weight: 400;
    margin-left: 0.75rem;
  }
  .now {
    display: grid;
    gap: 1.25rem;
  }
  section {
    min-width: 0;
  }
  section :global(.choice) {
    margin-bottom: 0.75rem;
  }
  @container (min-width: 90rem) {
    .now {
      grid-template-columns: minmax(0, 3fr) minmax(20rem, 1fr);
    }
  }
  ol {
    padding-left: 1.25rem;
    list-style: decimal;
    font-size: 0.875rem;
    line-height: 2;
  }
</style>
