<!-- All images of all hosts: the largest first, the same one on several hosts in one row. -->
<script lang="ts">
  import { call } from "../../lib/api";
  import type { FleetFigures } from "../fleet/figures";
  import { age, bytes, imageParts } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place, query } from "../../lib/router.svelte";
  import type { ImageRow } from "../../lib/types";
  import BuildImage from "./BuildImage.svelte";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  const list = new Listing<ImageRow>("/api/v1/images");
  $effect(() => {
    void live.assetsStamp;
    list.soon();
  });

  const typed = $derived(place.query.get("find") ?? "");
  const show = $derived(place.query.get("show") ?? "");

  function unused(row: ImageRow): boolean {
    return row.copies.every((c) => c.used_by.length === 0);
  }

  const rows = $derived(
    list.rows
      .filter((r) =>
        [r.id, ...r.tags, ...r.copies.map((c) => c.host)].some((t) =>
          t.toLowerCase().includes(typed.toLowerCase()),
        ),
      )
      .filter((r) => show === "" || (show === "unused" ? unused(r) : r.untagged)),
  );
  /** What removing the unused ones that are listed would free; the service knows which layers others need. */
  let frees = $state<number | null>(null);
  $effect(() => {
    void list.rows;
    const text = typed;
    const timer = setTimeout(() => {
      call<FleetFigures>("GET", `/api/v1/figures?image=${encodeURIComponent(text)}`)
        .then((figures) => {
          if (text === typed) frees = figures.unused_image_bytes;
        })
        .catch(() => (frees = null));
    }, 200);
    return () => clearTimeout(timer);
  });
  const items = $derived(rows.map((r) => ({ ...r, host: "image" })));

  function since(row: ImageRow): string {
    const all = row.copies
      .map((c) => c.unused_since)
      .filter((t): t is string => !!t)
      .sort();
    return unused(row) && all.length > 0 ? age(all.at(-1), live.now) : "";
  }
</script>

<div class="tools bar">
  <h1>Images</h1>
  <input
    class="filter"
    id="filter"
    placeholder="Filter by name, id or host"
    aria-label="Filter images"
    value={typed}
    oninput={(e) => query({ find: e.currentTarget.value }, true)}
  />
  <button aria-pressed={show === ""} onclick={() => query({ show: null }, true)}
    >All {list.rows.length}</button
  >
  <button aria-pressed={show === "unused"} onclick={() => query({ show: "unused" }, true)}
    >Unused {list.rows.filter(unused).length}</button
  >
  <button aria-pressed={show === "untagged"} onclick={() => query({ show: "untagged" }, true)}
    >Leftovers {list.rows.filter((r) => r.untagged).length}</button
  >
  <BuildImage />
  <span class="push"></span>
  {#if frees !== null}
    <span class="soft" data-test="frees">Removing the unused ones frees {bytes(frees)}.</span>
  {/if}
</div>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
<div class="columns images" role="row">
  <span>Image</span><span>Size</span><span>Built</span><span>For</span><span>Hosts</span><span>Used by</span
  ><span>Unused for</span>
</div>
{#if rows.length === 0}
  <p class="empty">{list.fetching ? "Fetching…" : "No image fits."}</p>
{:else}
  <VirtualRows {items} height={36}>
    {#snippet row(r: ImageRow & { host: string })}
      {@const name = r.tags[0] ? imageParts(r.tags[0]) : null}
      {@const users = r.copies.reduce((sum, c) => sum + c.used_by.length, 0)}
      <div
        class="line images"
        role="row"
        tabindex="-1"
        class:current={place.query.get("inspect") === `image:${r.id}`}
        onclick={() => inspect("image", r.id)}
        onkeydown={(e) => e.key === "Enter" && inspect("image", r.id)}
        data-test="image"
      >
        <span class="mono" title={r.tags.join("\n") || r.id}>
          {#if name}{name.rest} <span class="soft">{name.registry}</span>{r.tags.length > 1
              ? ` +${r.tags.length - 1}`
              : ""}{:else}<span class="soft">untagged</span> {r.id.slice(0, 12)}{/if}
        </span>
        <span>{bytes(r.size)}</span>
        <span class="soft">{age(r.created, live.now)}</span>
        <span class="soft">{r.architecture ?? "unknown"}</span>
        <span title={r.copies.map((c) => c.host).join(", ")}>{r.copies.map((c) => c.host).join(", ")}</span>
        <span>{users === 0 ? "□ unused" : `${users} container${users > 1 ? "s" : ""}`}</span>
        <span class="soft">{since(r)}</span>
      </div>
    {/snippet}
  </VirtualRows>
{/if}

<style>
  .images {
    grid-template-columns: minmax(14rem, 3fr) 6rem 4rem 5rem minmax(8rem, 1.3fr) 7rem 6rem;
  }
</style>
