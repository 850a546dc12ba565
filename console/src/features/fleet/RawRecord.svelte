<!-- The engine's whole record of a container, searchable, secrets masked by the service. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { visible } from "../../lib/format";
  import type { Detail } from "../../lib/types";
  import CopyInline from "../../ui/CopyInline.svelte";
  import TextField from "../../ui/form/TextField.svelte";

  let { reference }: { reference: string } = $props();

  let raw = $state("");
  let wrong = $state("");
  let typed = $state("");

  $effect(() => {
    const path = reference.split("/").map(encodeURIComponent).join("/");
    call<Detail>("GET", `/api/v1/containers/${path}`)
      .then((detail) => (raw = JSON.stringify(detail.raw, null, 2)))
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  const lines = $derived(raw.split("\n"));
  const shown = $derived(
    typed ? lines.filter((line) => line.toLowerCase().includes(typed.toLowerCase())) : lines,
  );
</script>

<div class="tools">
  <TextField
    placeholder="Find in the record"
    name="Find in the record"
    value={typed}
    onchange={(text) => (typed = text ?? "")}
  />
  <span class="soft">{typed ? `${shown.length} of ${lines.length} lines` : `${lines.length} lines`}</span>
  <CopyInline text={raw} what="the whole record" />
</div>
{#if wrong}
  <p class="wrong soft">{wrong}</p>
{:else}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <pre class="mono" role="region" aria-label="Record" tabindex="0">{shown.map(visible).join("\n")}</pre>
{/if}

<style>
  .tools {
    display: flex;
    gap: 0.75rem;
    align-items: center;
    padding: 0.5rem 1rem;
    font-size: 0.8125rem;
  }
  pre {
    flex: 1;
    margin: 0;
    padding: 0 1rem 1rem;
    overflow: auto;
    font-size: 0.75rem;
    line-height: 1.5;
  }
  .wrong {
    padding: 1rem;
  }
</style>
