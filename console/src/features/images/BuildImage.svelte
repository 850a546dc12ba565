<!-- New images: built on a host from a folder of this machine, a tar archive or a Git address, with the builder's words as
they come; or taken in from an archive. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { sentence } from "../../lib/api";
  import { eachLine, raw } from "../files/files";
  import { live } from "../../lib/live.svelte";
  import { tarOf } from "../files/tar";

  interface Line {
    text?: string;
    ended?: boolean;
    image?: string;
    problem?: string;
  }

  const MOST_TEXT = 400_000;

  let open = $state<"" | "build" | "import">("");
  let host = $state("");
  let tag = $state("");
  let from = $state<"folder" | "archive" | "git">("folder");
  let git = $state("");
  let file = $state("");
  let stage = $state("");
  let values = $state("");
  let anew = $state(false);
  let chosen = $state.raw<FileList | null>(null);
  let busy = $state(false);
  let said = $state("");
  let outcome = $state("");
  let failed = $state(false);
  let leave: AbortController | undefined;

  const hosts = $derived(live.hosts.filter((h) => h.state === "live").map((h) => h.name));
  const ready = $derived(
    !!host &&
      (open === "import"
        ? !!chosen?.length
        : !!tag.trim() && (from === "git" ? !!git.trim() : !!chosen?.length)),
  );
  onDestroy(() => leave?.abort());

  function show(what: "build" | "import") {
    [open, outcome, said, chosen] = [open === what ? "" : what, "", "", null];
    host ||= hosts[0] ?? "";
  }

  /** Lines of NAME=value as an object; a line that is none of that is named. */
  function read(): Record<string, string> | string {
    const all: Record<string, string> = {};
    for (const line of values
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)) {
      const at = line.indexOf("=");
      if (at < 1) return `“${line}” is no NAME=value.`;
      all[line.slice(0, at)] = line.slice(at + 1);
    }
    return all;
  }

  async function guarded(what: () => Promise<void>) {
    [busy, failed, outcome, said] = [true, false, "Sending…", ""];
    leave = new AbortController();
    try {
      await what();
    } catch (error) {
      failed = true;
      outcome = leave.signal.aborted ? "It was called off." : sentence(error);
    } finally {
      busy = false;
    }
  }

  const build = () =>
    guarded(async () => {
      const all = read();
      if (typeof all === "string") {
        [failed, outcome] = [true, all];
        return;
      }
      const query = new URLSearchParams({ tag: tag.trim(), anew: String(anew) });
      if (Object.keys(all).length > 0) query.set("arguments", JSON.stringify(all));
      if (file.trim()) query.set("file", file.trim());
      if (stage.trim()) query.set("stage", stage.trim());
      if (from === "git") query.set("git", git.trim());
      const context =
        from === "git"
          ? new Blob([])
          : from === "folder"
            ? tarOf(chosen ?? [])
            : (chosen?.[0] ?? new Blob([]));
      const address = `/api/v1/hosts/${encodeURIComponent(host)}/builds?${query.toString()}`;
      const response = await raw("POST", address, context, { signal: leave?.signal });
      outcome = "Building…";
      await eachLine<Line>(response, (line) => {
        if (line.text) said = (said + line.text).slice(-MOST_TEXT);
        if (!line.ended) return;
        failed = !!line.problem;
        outcome = line.problem
          ? `It was not built: ${line.problem}${/[.!?]$/.test(line.problem) ? "" : "."}`
          : `Built ${tag.trim()} on ${host}.`;
      });
      if (outcome === "Building…") [failed, outcome] = [true, "The connection broke before it was done."];
    });

  const take = () =>
    guarded(async () => {
      const address = `/api/v1/hosts/${encodeURIComponent(host)}/image-archive`;
      const response = await raw("POST", address, chosen?.[0] ?? new Blob([]), { signal: leave?.signal });
      const told = ((await response.json()) as { said: string }).said;
      outcome = told ? `Imported. Engine output: ${told}` : "Imported.";
    });

  let scroll = $state<HTMLPreElement>();
  $effect(() => {
    void said;
    if (scroll) scroll.scrollTop = scroll.scrollHeight;
  });
</script>

<button onclick={() => show("build")} aria-expanded={open === "build"}>Build an image…</button>
<button onclick={() => show("import")} aria-expanded={open === "import"}>Import…</button>
{#if open}
  <form
    class="tools"
    data-test="build"
    onsubmit={(e) => {
      e.preventDefault();
      void (open === "build" ? build() : take());
    }}
  >
    <select aria-label="Host" bind:value={host}>
      <option value="">On which host</option>
      {#each hosts as h (h)}<option value={h}>{h}</option>{/each}
    </select>
    {#if open === "build"}
      <input
        class="long"
        aria-label="Name of the image"
        placeholder="registry.example/name:tag"
        bind:value={tag}
      />
      <select aria-label="Built from" bind:value={from} onchange={() => (chosen = null)}>
        <option value="folder">a folder of this machine</option>
        <option value="archive">a tar archive</option>
        <option value="git">a Git address</option>
      </select>
    {/if}
    {#if open === "build" && from === "git"}
      <input
        class="long"
        aria-label="Git address"
        placeholder="https://git.example/frost.git#main:worker"
        bind:value={git}
      />
    {:else if open === "build" && from === "folder"}
      <input
        aria-label="Folder"
        type="file"
        webkitdirectory
        onchange={(e) => (chosen = e.currentTarget.files)}
      />
    {:else}
      <input aria-label="Archive" type="file" onchange={(e) => (chosen = e.currentTarget.files)} />
    {/if}
    {#if open === "build"}
      <details>
        <summary>Build file, stage, arguments</summary>
        <div class="more">
          <input aria-label="Build file" placeholder="build file: Dockerfile" bind:value={file} />
          <input aria-label="Stage" placeholder="stage at which it ends: the last" bind:value={stage} />
          <label><input type="checkbox" bind:checked={anew} /> without what earlier builds left</label>
          <textarea
            aria-label="Build arguments"
            placeholder="arguments, one NAME=value in a line"
            rows="3"
            bind:value={values}></textarea>
        </div>
      </details>
    {/if}
    {#if busy}
      <Button size="small" kind="tertiary" on:click={() => leave?.abort()}>Call it off</Button>
    {:else}
      <Button size="small" type="submit" disabled={!ready}
        >{open === "build" ? "Build it" : "Take it in"}</Button
      >
    {/if}
    {#if outcome}<p class:failed role="status" data-test="build-outcome">{outcome}</p>{/if}
    {#if said}<pre class="mono" bind:this={scroll} data-test="build-said">{said}</pre>{/if}
  </form>
{/if}

<style>
  form {
    width: 100%;
    padding-top: 0.4rem;
    flex-wrap: wrap;
  }
  .long {
    flex: 1 1 18rem;
    max-width: 28rem;
  }
  details {
    flex-basis: 100%;
    font-size: 0.8125rem;
  }
  summary {
    cursor: pointer;
  }
  .more label {
    display: flex;
    align-items: center;
    gap: 0.4rem;
    height: 1.75rem;
  }
  .more input:not([type]) {
    width: 15rem;
  }
  .more {
    display: flex;
    flex-wrap: wrap;
    gap: 0.6rem;
    align-items: start;
    padding-top: 0.4rem;
  }
  textarea {
    flex: 1 1 18rem;
    padding: 0.4rem 0.5rem;
    border: 1px solid var(--line);
    background: var(--cds-field-01);
    color: inherit;
    font: inherit;
  }
  p,
  pre {
    flex-basis: 100%;
    margin: 0;
  }
  p {
    font-size: 0.8125rem;
  }
  .failed {
    color: var(--state-failed);
  }
  pre {
    max-height: 16rem;
    overflow: auto;
    padding: 0.5rem;
    border: 1px solid var(--line);
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.75rem;
  }
</style>
