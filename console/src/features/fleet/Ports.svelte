<!-- What listens where, over all hosts. -->
<script lang="ts">
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { place } from "../../lib/router.svelte";
  import type { PortRow } from "../../lib/types";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";

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
  const bare = $derived(live.hosts.filter((h) => !h.ports_address).map((h) => h.name));

  type Row = PortRow & { id: string };

  function address(p: Row): string {
    if (p.host_network) return "host network";
    return p.address === "0.0.0.0" || p.address === "::" ? "all addresses" : (p.address ?? "");
  }

  /** Other containers that publish the same port on the same host. */
  function rivals(p: Row): string {
    return list.rows
      .filter((o) => o.host === p.host && o.port === p.port && o.protocol === p.protocol)
      .map((o) => o.container)
      .filter((other) => other !== p.container)
      .map((other) => other.split("/")[1])
      .join(", ");
  }

  function state(p: Row): string {
    if (p.clash) return `Conflict${rivals(p) ? ` with ${rivals(p)}` : ""}`;
    return p.listening ? "listening" : "reserved, not running";
  }

  const COLUMNS: Column<Row>[] = [
    {
      key: "port",
      title: "Port",
      width: "7rem",
      card: "title",
      mono: true,
      text: (p) => `${p.port}/${p.protocol}`,
    },
    { key: "host", title: "Host", width: "8rem", card: "side", text: (p) => p.host },
    { key: "address", title: "Address", width: "11rem", from: 820, mono: true, text: address },
    {
      key: "container",
      title: "Container",
      width: "minmax(9rem, 2fr)",
      card: "below",
      text: (p) => p.container.split("/")[1] ?? "",
    },
    {
      key: "inner",
      title: "Container port",
      width: "7rem",
      from: 700,
      mono: true,
      soft: true,
      text: (p) => (p.host_network ? "" : String(p.container_port)),
    },
    { key: "state", title: "State", width: "minmax(8rem, 1fr)", from: 600, text: state },
  ];
</script>

<ListBar title="Ports" placeholder="Filter by port, host or container" label="Filter ports">
  <span class="soft">{rows.length} of {list.rows.length}</span>
  {#if bare.length > 0}<span class="soft"
      >Set a host's address for published ports on the Hosts page, and its ports become links.</span
    >{/if}
</ListBar>
{#if list.wrong}<p class="empty">{list.wrong}</p>{/if}
{#if rows.length === 0}
  <p class="empty">
    {list.fetching ? "Loading…" : typed ? `No port matches “${typed}”.` : "No container publishes a port."}
  </p>
{:else}
  <RowList
    name="ports"
    {items}
    columns={COLUMNS}
    test="port"
    current={(p) => place.query.get("inspect") === p.container}
    onopen={(p) => inspect("container", p.container)}
  >
    {#snippet cell(p: Row, key: string, text: string)}
      {#if key === "port" && p.url && p.listening}<a href={p.url} target="_blank" rel="noreferrer">{p.port}</a
        >/{p.protocol}
      {:else if key === "state"}<span class:bad={p.clash} class:soft={!p.clash}
          >{p.clash ? "▲ " : p.listening ? "" : "□ "}{text}</span
        >
      {:else}{text}{/if}
    {/snippet}
  </RowList>
{/if}

<style>
  .bad {
    color: var(--state-failed);
    font-weight: 600;
  }
</style>
