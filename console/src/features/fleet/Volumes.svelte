<!-- All volumes of all hosts, and who mounts them. -->
<script lang="ts">
  import { age, bytes } from "../../lib/format";
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place } from "../../lib/router.svelte";
  import type { VolumeRow } from "../../lib/types";
  import NewObject from "./NewObject.svelte";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";

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

  const isUnused = (v: VolumeRow) => v.used_by.length === 0;
  const COLUMNS: Column<VolumeRow>[] = [
    {
      key: "name",
      title: "Volume",
      width: "minmax(10rem, 2fr)",
      card: "title",
      mono: true,
      text: (v) => v.name,
    },
    { key: "host", title: "Host", width: "8rem", card: "below", text: (v) => v.host },
    {
      key: "size",
      title: "Size",
      width: "7rem",
      card: "side",
      text: (v) => (v.size === undefined ? "not measured" : bytes(v.size)),
    },
    {
      key: "created",
      title: "Created",
      width: "5rem",
      from: 900,
      soft: true,
      text: (v) => age(v.created, live.now),
    },
    {
      key: "users",
      title: "Used by",
      width: "minmax(8rem, 2fr)",
      from: 700,
      text: (v) =>
        isUnused(v)
          ? "unused"
          : v.used_by
              .map((u) => `${u.container.split("/")[1]}${u.read_only ? " (read-only)" : ""}`)
              .join(", "),
    },
    {
      key: "unused",
      title: "Unused since",
      width: "7rem",
      from: 820,
      soft: true,
      text: (v) => (v.unused_since ? `${age(v.unused_since, live.now)} ago` : ""),
    },
  ];
</script>

<ListBar
  title="Volumes"
  placeholder="Filter by name, host or user"
  label="Filter volumes"
  view={show}
  views={[
    ["", "All", list.rows.length],
    ["unused", "Unused", list.rows.filter(isUnused).length],
  ]}
>
  <NewObject kind="volume" />
  <span class="soft">Unused volumes hold {bytes(waste)}.</span>
</ListBar>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
{#if rows.length === 0}
  <p class="empty">
    {list.fetching
      ? "Loading…"
      : list.rows.length === 0
        ? "No volumes yet. A volume is created here, or with the first container that mounts it."
        : "No volume matches this filter."}
  </p>
{:else}
  <RowList
    name="volumes"
    {items}
    columns={COLUMNS}
    test="volume"
    current={(v) => place.query.get("inspect") === `volume:${v.host}/${v.name}`}
    onopen={(v) => inspect("volume", `${v.host}/${v.name}`)}
  >
    {#snippet cell(v: VolumeRow, key: string, text: string)}
      {#if key === "name" && v.anonymous}{v.name.slice(0, 12)} <span class="soft">anonymous</span>
      {:else if key === "users" && isUnused(v)}<span class="soft">□ unused</span>
      {:else}{text}{/if}
    {/snippet}
  </RowList>
{/if}
