<!-- All volumes of all hosts, and who mounts them. -->
<script lang="ts">
  import { age, bytes } from "../../lib/format";
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place, query } from "../../lib/router.svelte";
  import type { VolumeRow } from "../../lib/types";
  import NewThing from "./NewThing.svelte";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  const list = new Listing<VolumeRow>("/api/v1/volumes");
  $effect(() => {
    void live.assetsStamp;
    list.soon();
  });

  const typed = $derived(place.query.get("find") ?? "");
  const show = $derived(place.query.get("show") ?? "");
  const rows = $derived(
    list.rows
      .filter((v) =>
        `${v.host}/${v.name} ${v.driver} ${v.used_by.map((u) => u.container).join(" ")}`
          .toLowerCase()
          .includes(typed.toLowerCase()),
      )
      .filter((v) => show === "" || v.used_by.length === 0),
  );
  const items = $derived(rows.map((v) => ({ ...v, id: v.name })));
  const waste = $derived(
    list.rows.filter((v) => v.used_by.length === 0).reduce((sum, v) => sum + (v.size ?? 0), 0),
  );
</script>

<div class="tools bar">
  <h1>Volumes</h1>
  <input
    class="filter"
    id="filter"
    placeholder="Filter by name, host or user"
    aria-label="Filter volumes"
    value={typed}
    oninput={(e) => query({ find: e.currentTarget.value }, true)}
  />
  <button aria-pressed={show === ""} onclick={() => query({ show: null }, true)}
    >All {list.rows.length}</button
  >
  <button aria-pressed={show === "unused"} onclick={() => query({ show: "unused" }, true)}
    >Unused {list.rows.filter((v) => v.used_by.length === 0).length}</button
  >
  <NewThing kind="volume" />
  <span class="push"></span>
  <span class="soft">Unused ones hold {bytes(waste)}.</span>
</div>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
<div class="columns volumes" role="row">
  <span>Volume</span><span>Host</span><span>Size</span><span>Made</span><span>Mounted by</span><span
    >Unused for</span
  >
</div>
{#if rows.length === 0}
  <p class="empty">{list.fetching ? "Fetching…" : "No volume fits."}</p>
{:else}
  <VirtualRows {items} height={36}>
    {#snippet row(v: VolumeRow & { id: string })}
      <div
        class="line volumes"
        role="row"
        tabindex="-1"
        class:current={place.query.get("inspect") === `volume:${v.host}/${v.name}`}
        onclick={() => inspect("volume", `${v.host}/${v.name}`)}
        onkeydown={(e) => e.key === "Enter" && inspect("volume", `${v.host}/${v.name}`)}
        data-test="volume"
      >
        <span class="mono" title={v.name}
          >{v.anonymous ? v.name.slice(0, 12) : v.name}
          {#if v.anonymous}<span class="soft">anonymous</span>{/if}</span
        >
        <span>{v.host}</span>
        <span>{v.size === undefined ? "not measured" : bytes(v.size)}</span>
        <span class="soft">{age(v.created, live.now)}</span>
        <span
          >{v.used_by.length === 0
            ? "□ nobody"
            : v.used_by
                .map((u) => `${u.container.split("/")[1]}${u.read_only ? " (reads)" : ""}`)
                .join(", ")}</span
        >
        <span class="soft">{age(v.unused_since, live.now)}</span>
      </div>
    {/snippet}
  </VirtualRows>
{/if}

<style>
  .volumes {
    grid-template-columns: minmax(12rem, 2fr) 8rem 7rem 4rem minmax(10rem, 2fr) 6rem;
  }
</style>
