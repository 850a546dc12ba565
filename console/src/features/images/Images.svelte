<!-- All images of all hosts: the largest first, the same one on several hosts in one row. -->
<script lang="ts">
  import { call } from "../../lib/api";
  import type { FleetFigures } from "../fleet/figures";
  import { age, bytes, imageParts } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place } from "../../lib/router.svelte";
  import type { ImageRow } from "../../lib/types";
  import { session } from "../../lib/session.svelte";
  import Lazy from "../../shell/Lazy.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import BuildImage from "./BuildImage.svelte";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";

  let pulling = $state(false);
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
    return unused(row) && all.length > 0 ? `${age(all.at(-1), live.now)} ago` : "";
  }

  const hosts = (r: ImageRow) => r.copies.map((c) => c.host).join(", ");
  const users = (r: ImageRow) => r.copies.reduce((sum, c) => sum + c.used_by.length, 0);
  const total = $derived(rows.reduce((sum, r) => sum + (r.size ?? 0), 0));

  const COLUMNS: Column<ImageRow>[] = [
    {
      key: "name",
      title: "Image",
      width: "minmax(12rem, 3fr)",
      card: "title",
      mono: true,
      text: (r) => r.tags.join(" ") || `untagged ${r.id.slice(0, 12)}`,
    },
    { key: "size", title: "Size", width: "6rem", card: "side", text: (r) => bytes(r.size) },
    {
      key: "built",
      title: "Built",
      width: "4rem",
      from: 900,
      soft: true,
      text: (r) => age(r.created, live.now),
    },
    {
      key: "platform",
      title: "Platform",
      width: "6rem",
      from: 980,
      soft: true,
      text: (r) => r.architecture ?? "unknown",
    },
    { key: "hosts", title: "Hosts", width: "minmax(8rem, 1.3fr)", card: "below", from: 600, text: hosts },
    {
      key: "users",
      title: "Used by",
      width: "8rem",
      from: 700,
      text: (r) => (users(r) === 0 ? "unused" : `${users(r)} container${users(r) > 1 ? "s" : ""}`),
    },
    { key: "unused", title: "Unused since", width: "7rem", from: 820, soft: true, text: since },
  ];
</script>

<ListBar
  title="Images"
  placeholder="Filter by name, ID or host"
  label="Filter images"
  view={show}
  views={[
    ["", "All", list.rows.length],
    ["unused", "Unused", list.rows.filter(unused).length],
    ["untagged", "Untagged", list.rows.filter((r) => r.untagged).length],
  ]}
>
  {#if session.mayChange("pull")}<ToolButton onclick={() => (pulling = true)}>Pull an image…</ToolButton>{/if}
  <BuildImage />
  <span class="soft" data-test="frees"
    >{bytes(total)} in {rows.length} images{frees !== null
      ? `; removing the unused ones frees ${bytes(frees)}`
      : ""}</span
  >
</ListBar>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
{#if rows.length === 0}
  <p class="empty">
    {list.fetching
      ? "Loading…"
      : list.rows.length === 0
        ? "No images yet. Build one here, or deploy a container: its image is pulled."
        : "No image matches this filter."}
  </p>
{:else}
  <RowList
    name="images"
    {items}
    columns={COLUMNS}
    test="image"
    current={(r) => place.query.get("inspect") === `image:${r.id}`}
    onopen={(r) => inspect("image", r.id)}
  >
    {#snippet cell(r: ImageRow, key: string, text: string)}
      {@const name = key === "name" && r.tags[0] ? imageParts(r.tags[0]) : null}
      {#if name}{name.rest} <span class="soft">{name.registry}</span>{r.tags.length > 1
          ? ` +${r.tags.length - 1}`
          : ""}
      {:else if key === "users" && users(r) === 0}<span class="soft">□ unused</span>
      {:else}{text}{/if}
    {/snippet}
  </RowList>
{/if}
{#if pulling}
  <Lazy
    part={() => import("./PullImage.svelte")}
    with={{ images: list.rows, onclose: () => (pulling = false) }}
  />
{/if}
