<!-- All networks of all hosts, with who is in them. -->
<script lang="ts">
  import { age } from "../../lib/format";
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place } from "../../lib/router.svelte";
  import type { NetworkRow } from "../../lib/types";
  import NewObject from "./NewObject.svelte";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";

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
      .filter((n) => (show === "unused" ? idle(n) : show === "built-in" ? n.built_in : !n.built_in)),
  );

  const COLUMNS: Column<NetworkRow>[] = [
    {
      key: "name",
      title: "Network",
      width: "minmax(9rem, 1.5fr)",
      card: "title",
      mono: true,
      text: (n) => n.name,
    },
    { key: "host", title: "Host", width: "8rem", card: "below", text: (n) => n.host },
    {
      key: "driver",
      title: "Driver",
      width: "8rem",
      card: "side",
      text: (n) => `${n.driver}${n.internal ? ", internal" : ""}`,
    },
    {
      key: "subnets",
      title: "Subnets",
      width: "10rem",
      from: 820,
      mono: true,
      text: (n) => n.subnets.map((s) => s.subnet).join(", "),
    },
    {
      key: "members",
      title: "Connected containers",
      width: "minmax(8rem, 2fr)",
      from: 700,
      text: (n) =>
        n.members.length > 0
          ? n.members.map((m) => m.container.split("/")[1]).join(", ")
          : n.built_in
            ? ""
            : "unused",
    },
    {
      key: "unused",
      title: "Unused since",
      width: "7rem",
      from: 900,
      soft: true,
      text: (n) => (n.unused_since ? `${age(n.unused_since, live.now)} ago` : ""),
    },
  ];
</script>

<ListBar
  title="Networks"
  placeholder="Filter by name, host or address"
  label="Filter networks"
  view={show}
  views={[
    ["", "All", list.rows.filter((n) => !n.built_in).length],
    ["unused", "Unused", list.rows.filter(idle).length],
    ["built-in", "Built-in", list.rows.filter((n) => n.built_in).length],
  ]}
>
  <NewObject kind="network" />
</ListBar>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
{#if rows.length === 0}
  <p class="empty">
    {list.fetching
      ? "Loading…"
      : list.rows.length === 0
        ? "No networks yet. Connect a host first."
        : "No network matches this filter."}
  </p>
{:else}
  <RowList
    name="networks"
    items={rows}
    columns={COLUMNS}
    test="network"
    current={(n) => place.query.get("inspect") === `network:${n.host}/${n.name}`}
    onopen={(n) => inspect("network", `${n.host}/${n.name}`)}
  >
    {#snippet cell(n: NetworkRow, key: string, text: string)}
      {#if key === "members" && idle(n)}<span class="soft">□ unused</span>
      {:else}{text}{/if}
    {/snippet}
  </RowList>
{/if}
