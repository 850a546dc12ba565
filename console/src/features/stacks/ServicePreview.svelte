<!-- The services read from a Compose file: as a list or as a picture. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { imageParts } from "../../lib/format";
  import type { StackReport } from "../../lib/types";
  import { ofReport } from "../map/graphs";
  import MapView from "../map/MapView.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import Switcher from "../../ui/Switcher.svelte";

  let {
    report,
    onshow,
  }: { report: StackReport; onshow: (file: string, line: number, column: number) => void } = $props();

  let picture = $state(false);
  const graph = $derived(ofReport(report));
</script>

<div class="title">
  <h2>{report.services.length === 1 ? "1 service" : `${report.services.length} services`}</h2>
  <div class="tools">
    <Switcher
      name="Shown as"
      value={picture}
      options={[
        [false, "List"],
        [true, "Map"],
      ]}
      onchange={(map) => (picture = map)}
    />
  </div>
</div>
{#if picture}
  <div class="map">
    <MapView
      {graph}
      label="Map of the text"
      plain
      onpick={(node) => {
        const found = report.services.find((s) => `service:${s.name}` === node.id);
        if (found) onshow(found.file, found.line, 1);
      }}
    />
  </div>
{:else}
  <Rows data-test="services">
    <thead><tr><th>Service</th><th>Image</th><th>Containers</th><th>Depends on</th><th>Ports</th></tr></thead>
    <tbody>
      {#each report.services as s (s.name)}
        <tr>
          <td><InlineAction onclick={() => onshow(s.file, s.line, 1)}>{s.name}</InlineAction></td>
          <td class="mono">{imageParts(s.image).rest}</td>
          <td>{s.schedule ?? (s.job ? "once" : s.containers)}</td>
          <td
            >{s.needs
              .map((n) => (n.until === "started" ? n.service : `${n.service} (${n.until})`))
              .join(", ")}</td
          >
          <td class="mono">{s.ports.join(", ")}</td>
        </tr>
      {/each}
    </tbody>
  </Rows>
{/if}
{#if report.left_out.length > 0}
  <p class="soft">Left out, because their profiles are not active: {report.left_out.join(", ")}.</p>
{/if}

<style>
  .title {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
  }
  h2 {
    margin: 1.2rem 0 0.5rem;
  }
  td {
    overflow-wrap: anywhere;
  }
  .map {
    height: 18rem;
  }
</style>
