<!-- What listens where, over all hosts. -->
<script lang="ts">
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place, query } from "../../lib/router.svelte";
  import type { PortRow } from "../../lib/types";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  const list = new Listing<PortRow>("/api/v1/ports");
  $effect(() => {
    void live.containers;
    list.soon();
  });

  const typed = $derived(place.query.get("find") ?? "");
  const rows = $derived(
    list.rows.filter((p) =>
      `${p.port} ${p.host} ${p.address ?? ""} ${p.container} ${p.protocol} ${p.container_port}`
        .toLowerCase()
        .includes(typed.toLowerCase()),
    ),
  );
  const items = $derived(
    rows.map((p) => ({
      ...p,
      id: `${p.port}/${p.protocol}/${p.address}/${p.container}/${p.container_port}`,
    })),
  );
  const bare = $derived(live.hosts.filter((h) => !h.public_address).map((h) => h.name));
</script>

<div class="tools bar">
  <h1>Ports</h1>
  <input
    class="filter"
    id="filter"
    placeholder="A port, a host or a container"
    aria-label="Filter ports"
    value={typed}
    oninput={(e) => query({ find: e.currentTarget.value }, true)}
  />
  <span class="soft">{rows.length} of {list.rows.length}</span>
  <span class="push"></span>
  {#if bare.length > 0}<span class="soft"
      >Set a host's public address on its page, and its ports become links.</span
    >{/if}
</div>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
<div class="columns ports" role="row">
  <span>Port</span><span>Host</span><span>Address</span><span>Container</span><span>Inside</span><span></span>
</div>
{#if rows.length === 0}
  <p class="empty">
    {list.fetching ? "Fetching…" : typed ? `Nothing listens on “${typed}”.` : "Nothing is published."}
  </p>
{:else}
  <VirtualRows {items} height={36}>
    {#snippet row(p: PortRow & { id: string })}
      <div
        class="line ports"
        role="row"
        tabindex="-1"
        onclick={(e) => (e.target as Element).closest("a") || inspect("container", p.container)}
        onkeydown={(e) => e.key === "Enter" && inspect("container", p.container)}
        data-test="port"
      >
        <span class="mono">
          {#if p.url && p.listening}<a href={p.url} target="_blank" rel="noreferrer">{p.port}</a
            >{:else}{p.port}{/if}/{p.protocol}
        </span>
        <span>{p.host}</span>
        <span class="mono"
          >{p.host_network
            ? "the host's own network"
            : p.address === "0.0.0.0" || p.address === "::"
              ? "every address"
              : p.address}</span
        >
        <span>{p.container.split("/")[1]}</span>
        <span class="mono soft">{p.host_network ? "" : p.container_port}</span>
        <span class:bad={p.clash}
          >{p.clash ? "▲ wanted twice" : p.listening ? "" : "□ reserved, does not run"}</span
        >
      </div>
    {/snippet}
  </VirtualRows>
{/if}

<style>
  .ports {
    grid-template-columns: 7rem 9rem 12rem minmax(10rem, 2fr) 5rem minmax(8rem, 1fr);
  }
  .bad {
    color: var(--state-failed);
    font-weight: 600;
  }
</style>
