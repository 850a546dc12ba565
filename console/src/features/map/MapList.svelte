<!-- The same as a map, as a list: for those who do not see it, and for those who would rather read. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import type { Graph, MapNode } from "./graphs";
  import InlineAction from "../../ui/InlineAction.svelte";

  let {
    graph,
    filter = "",
    onpick,
  }: { graph: Graph; filter?: string; onpick: (node: MapNode) => void } = $props();

  const WORDS = { needs: "needs", in: "is in", mounts: "mounts", publishes: "leads to" };
  const MOST = 500;

  const labels = $derived(new Map(graph.nodes.map((n) => [n.id, n.label])));
  const rows = $derived.by(() => {
    const wanted = filter.trim().toLowerCase();
    const fits = (n: MapNode) =>
      !wanted || `${n.label} ${n.note} ${n.host ?? ""} ${n.kind}`.toLowerCase().includes(wanted);
    return graph.nodes.filter(fits);
  });
  const joins = $derived.by(() => {
    const all = new Map<string, string[]>();
    for (const e of graph.edges) {
      const words = `${WORDS[e.kind]} ${labels.get(e.to) ?? e.to}${e.label ? ` (${e.label})` : ""}`;
      all.set(e.from, [...(all.get(e.from) ?? []), words]);
    }
    return all;
  });
</script>

<Rows data-test="map-list">
  <thead><tr><th>Name</th><th>Kind</th><th>Host</th><th>State</th><th>Connected to</th></tr></thead>
  <tbody>
    {#each rows.slice(0, MOST) as n (n.id)}
      <tr>
        <td><InlineAction onclick={() => onpick(n)}>{n.label}</InlineAction></td>
        <td>{n.kind}</td>
        <td>{n.host ?? ""}</td>
        <td>{n.stateWords ?? ""}</td>
        <td>{(joins.get(n.id) ?? []).join("; ")}</td>
      </tr>
    {/each}
  </tbody>
</Rows>
{#if rows.length > MOST}<p class="soft">{rows.length - MOST} more; narrow them down.</p>{/if}

<style>
  td {
    overflow-wrap: anywhere;
  }
</style>
