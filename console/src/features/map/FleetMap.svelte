<!-- The whole fleet as a picture: a box for each host, a node for each stack; a stack opens where it is. -->
<script lang="ts">
  import { Search } from "carbon-components-svelte";

  import { go, place, query } from "../../lib/router.svelte";
  import { live } from "../../lib/live.svelte";
  import { pageOf } from "../stacks/words";
  import { LOOSE, ofFleet, type Graph, type MapNode } from "./graphs";
  import { layoutOfHosts, type Layout } from "./layout";
  import MapList from "./MapList.svelte";
  import MapView from "./MapView.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import Switcher from "../../ui/Switcher.svelte";

  let filter = $state("");
  const asList = $derived(place.query.get("as") === "list");
  const only = $derived(place.query.get("host") ?? "");
  const open = $derived(new Set((place.query.get("open") ?? "").split(",").filter(Boolean)));
  const hosts = $derived(live.hosts.filter((h) => !only || h.name === only));

  const graphs = $derived(ofFleet(hosts, live.containers, open));
  const graph = $derived<Graph>({
    nodes: graphs.flatMap((g) => g.nodes),
    edges: graphs.flatMap((g) => g.edges),
  });
  // The places change only with what is there.
  const shape = $derived(
    graphs
      .map(
        (g) => `${g.nodes.map((n) => n.id).join(" ")}|${g.edges.map((e) => `${e.from}>${e.to}`).join(" ")}`,
      )
      .join("\n"),
  );
  let before: { shape: string; layout: Layout } | null = null;
  const laid = $derived.by(() => {
    if (before?.shape !== shape) {
      const titled = graphs.map((g, n) => ({ title: hosts[n]?.name ?? "", graph: g }));
      before = { shape, layout: layoutOfHosts(titled) };
      return before.layout;
    }
    const now = new Map(graph.nodes.map((n) => [n.id, n]));
    return { ...before.layout, nodes: before.layout.nodes.map((n) => ({ ...n, ...now.get(n.id) })) };
  });

  function pick(node: MapNode) {
    if (node.kind === "stack") {
      const key = node.id.slice("stack:".length);
      query({ open: [...open, key].join(",") }, true);
    } else if (node.inspect) query({ inspect: node.inspect, tab: null });
  }
</script>

<div class="tools bar">
  <h1>Map</h1>
  <div class="find-in">
    <Search
      id="filter"
      size="sm"
      placeholder="Find on the map"
      labelText="Find on the map"
      bind:value={filter}
    />
  </div>
  <SelectField
    name="Host"
    value={only}
    options={[["", "All hosts"], ...live.hosts.map((h): [string, string] => [h.name, h.name])]}
    onchange={(next) => query({ host: next || null }, true)}
  />
  <span class="push"></span>
  {#each [...open] as key (key)}
    <ToolButton onclick={() => query({ open: [...open].filter((k) => k !== key).join(",") || null }, true)}
      >Fold {key}</ToolButton
    >
    {#if !key.endsWith(LOOSE)}
      <InlineAction onclick={() => go(pageOf(key.split("/")[0] ?? "", key.split("/")[1] ?? ""))}
        >Open its page</InlineAction
      >
    {/if}
  {/each}
  <Switcher
    name="Shown as"
    value={asList}
    options={[
      [false, "Map"],
      [true, "List"],
    ]}
    onchange={(list) => query({ as: list ? "list" : null }, true)}
  />
</div>
{#if live.hosts.length === 0}
  <div class="empty"><p>{live.status === "on" ? "No host yet." : "Loading the fleet…"}</p></div>
{:else if asList}
  <div class="list"><MapList {graph} {filter} onpick={pick} /></div>
{:else}
  <div class="whole"><MapView {graph} {laid} {filter} label="Map of the fleet" onpick={pick} /></div>
{/if}

<style>
  .find-in {
    width: 18rem;
    max-width: 100%;
  }
  .whole {
    flex: 1;
    min-height: 0;
  }
  .list {
    flex: 1;
    min-height: 0;
    overflow: auto;
    padding: 0 1rem;
  }
</style>
