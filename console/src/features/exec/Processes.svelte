<!-- Processes of a running container, refreshed, and the files it changed. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { call, sentence } from "../../lib/api";
  import { visible } from "../../lib/format";
  import type { Container } from "../../lib/types";
  import TextField from "../../ui/form/TextField.svelte";

  let { container }: { container: Container } = $props();

  let processes = $state.raw<{ titles: string[]; processes: string[][] } | null>(null);
  let files = $state.raw<{ path: string; change: string }[] | null>(null);
  let wrong = $state({ processes: "", files: "" });
  let typed = $state("");

  const address = $derived(
    `/api/v1/containers/${encodeURIComponent(container.host)}/${encodeURIComponent(container.name)}`,
  );
  const alive = $derived(container.state === "running" || container.state === "paused");

  async function ask() {
    try {
      processes = await call("GET", `${address}/processes`);
      wrong.processes = "";
    } catch (error) {
      wrong.processes = sentence(error);
    }
  }

  $effect(() => {
    if (!alive) return;
    void ask();
    const timer = setInterval(() => void ask(), 3000);
    return () => clearInterval(timer);
  });

  $effect(() => {
    call<{ path: string; change: string }[]>("GET", `${address}/changes`)
      .then((found) => (files = found))
      .catch((error: unknown) => (wrong.files = sentence(error)));
  });

  const shown = $derived(
    (files ?? []).filter((f) => f.path.toLowerCase().includes(typed.toLowerCase())).slice(0, 1000),
  );
</script>

<div class="inside">
  <h3>Processes</h3>
  {#if !alive}
    <p class="soft">Not running.</p>
  {:else if wrong.processes}
    <p class="soft">{wrong.processes}</p>
  {:else if processes}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="scroll" role="region" aria-label="Processes" tabindex="0">
      <Rows class="mono" data-test="processes">
        <thead
          ><tr
            >{#each processes.titles as title (title)}<th>{title}</th>{/each}</tr
          ></thead
        >
        <tbody>
          {#each processes.processes as row, i (i)}
            <tr
              >{#each row as cell, n (n)}<td>{visible(cell)}</td>{/each}</tr
            >
          {/each}
        </tbody>
      </Rows>
    </div>
  {:else}
    <p class="soft">Loading…</p>
  {/if}

  <h3>
    Changed files
    {#if files && files.length > 10}<TextField
        placeholder="Find"
        name="Find a file"
        value={typed}
        onchange={(text) => (typed = text ?? "")}
      />{/if}
  </h3>
  {#if wrong.files}
    <p class="soft">{wrong.files}</p>
  {:else if !files}
    <p class="soft">Loading…</p>
  {:else}
    {#each shown as file (file.path)}
      <div class="file mono"><span class={file.change}>{file.change}</span> {visible(file.path)}</div>
    {:else}
      <p class="soft">None.</p>
    {/each}
  {/if}
</div>

<style>
  .inside {
    overflow-y: auto;
    padding: 0.5rem 1rem 1.5rem;
  }
  h3 {
    font-size: 0.8125rem;
    font-weight: 600;
    margin: 0.9rem 0 0.4rem;
  }
  .scroll {
    overflow-x: auto;
  }
  .scroll :global(.rows) {
    font-size: 0.75rem;
  }
  .file {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
  }
  .file span {
    display: inline-block;
    width: 4.5rem;
    color: var(--cds-text-02);
  }
  .file .added {
    color: var(--state-well);
  }
  .file .deleted {
    color: var(--state-failed);
  }
</style>
