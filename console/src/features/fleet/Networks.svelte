<!-- All networks of all hosts, with who is in them. -->
<script lang="ts">
  import { age } from "../../lib/format";
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place, query } from "../../lib/router.svelte";
  import type { NetworkRow } from "../../lib/types";
  import NewThing from "./NewThing.svelte";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  const list = new Listing<NetworkRow>("/api/v1/networks");
  $effect(() => {
    void live.assetsStamp;
    list.soon();
  });

  const typed = $derived(place.query.get("find") ?? "");
  const show = $derived(place.query.get("show") ?? "");
  const idle = (n: NetworkRow) => n.members.length === 0 && !n.built_in;
  const rows = $derived(
    list.rows
      .filter((n) =>
        `${n.host}/${n.name} ${n.driver} ${n.subnets.map((s) => s.subnet).join(" ")}`
          .toLowerCase()
          .includes(typed.toLowerCase()),
      )
      .filter((n) => show === "" || idle(n)),
  );
</script>

<div class="tools bar">
  <h1>Networks</h1>
  <input
    class="filter"
    id="filter"
    placeholder="Filter by name, host or address"
    aria-label="Filter networks"
    value={typed}
    oninput={(e) => query({ find: e.currentTarget.value }, true)}
  />
  <button aria-pressed={show === ""} onclick={() => query({ show: null }, true)}
    >All {list.rows.length}</button
  >
  <button aria-pressed={show === "unused"} onclick={() => query({ show: "unused" }, true)}
    >Unused {list.rows.filter(idle).length}</button
  >
  <NewThing kind="network" />
</div>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
<div class="columns networks" role="row">
  <span>Network</span><span>Host</span><span>Driver</span><span>Addresses</span><span>Members</span><span
    >Unused for</span
  >
</div>
{#if rows.length === 0}
  <p class="empty">{list.fetching ? "Fetching…" : "No network fits."}</p>
{:else}
  <VirtualRows items={rows} height={36}>
    {#snippet row(n: NetworkRow)}
      <div
        class="line networks"
        role="row"
        tabindex="-1"
        class:current={place.query.get("inspect") === `network:${n.host}/${n.name}`}
        onclick={() => inspect("network", `${n.host}/${n.name}`)}
        onkeydown={(e) => e.key === "Enter" && inspect("network", `${n.host}/${n.name}`)}
        data-test="network"
      >
        <span class="mono"
          >{n.name}
          {#if n.built_in}<span class="soft">built-in</span>{/if}</span
        >
        <span>{n.host}</span>
        <span>{n.driver}{n.internal ? ", no way out" : ""}</span>
        <span class="mono">{n.subnets.map((s) => s.subnet).join(", ")}</span>
        <span
          >{n.members.length === 0
            ? n.built_in
              ? ""
              : "□ nobody"
            : n.members.map((m) => m.container.split("/")[1]).join(", ")}</span
        >
        <span class="soft">{age(n.unused_since, live.now)}</span>
      </div>
    {/snippet}
  </VirtualRows>
{/if}

<style>
  .networks {
    grid-template-columns: minmax(11rem, 1.5fr) 8rem 7rem 10rem minmax(10rem, 2fr) 6rem;
  }
</style>
