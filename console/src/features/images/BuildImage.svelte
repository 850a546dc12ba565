<!-- New images: built on a host from a folder of this machine, a tar archive or a Git URL, with the builder's words as
they come; or imported from an archive. -->
<script lang="ts">
  import { Button, TextArea } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { sentence } from "../../lib/api";
  import { eachLine, raw } from "../files/files";
  import { live } from "../../lib/live.svelte";
  import { tarOf } from "../files/tar";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import Upload from "../../ui/form/Upload.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

  interface Line {
    text?: string;
    ended?: boolean;
    image?: string;
    problem?: string;
  }

  const MOST_TEXT = 400_000;
  const SOURCES = [
    ["folder", "a folder of this machine"],
    ["archive", "a tar archive"],
    ["git", "a Git URL"],
  ] as const;

  let open = $state<"" | "build" | "import">("");
  let host = $state("");
  let tag = $state("");
  let from = $state<"folder" | "archive" | "git">("folder");
  let git = $state("");
  let file = $state("");
  let stage = $state("");
  let values = $state("");
  let noCache = $state(false);
  let chosen = $state.raw<File[] | null>(null);
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
      if (at < 1) return `“${line}” is not NAME=value.`;
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
      outcome = leave.signal.aborted ? "Cancelled." : sentence(error);
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
      const query = new URLSearchParams({ tag: tag.trim(), no_cache: String(noCache) });
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
          ? `Build failed: ${line.problem}${/[.!?]$/.test(line.problem) ? "" : "."}`
          : `Built ${tag.trim()} on ${host}.`;
      });
      if (outcome === "Building…") [failed, outcome] = [true, "Connection lost before it was done."];
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

<ToolButton onclick={() => show("build")} aria-expanded={open === "build"}>Build an image…</ToolButton>
<ToolButton onclick={() => show("import")} aria-expanded={open === "import"}>Import…</ToolButton>
{#if open}
  <form
    class="tools"
    data-test="build"
    onsubmit={(e) => {
      e.preventDefault();
      void (open === "build" ? build() : take());
    }}
  >
    <SelectField
      name="Host"
      value={host}
      options={[["", "Choose a host"], ...hosts.map((h): [string, string] => [h, h])]}
      onchange={(next) => (host = next)}
    />
    {#if open === "build"}
      <TextField
        name="Name of the image"
        placeholder="registry.example/name:tag"
        value={tag}
        onchange={(text) => (tag = text ?? "")}
      />
      <SelectField
        name="Source"
        value={from}
        options={SOURCES}
        onchange={(next) => {
          from = next as typeof from;
          chosen = null;
        }}
      />
    {/if}
    {#if open === "build" && from === "git"}
      <TextField
        name="Git URL"
        placeholder="https://git.example/frost.git#main:worker"
        value={git}
        onchange={(text) => (git = text ?? "")}
      />
    {:else if open === "build" && from === "folder"}
      <Upload multiple folder label="Choose a folder" name="Folder" onfiles={(files) => (chosen = files)} />
    {:else}
      <Upload label="Choose an archive" name="Archive" onfiles={(files) => (chosen = files)} />
    {/if}
    {#if open === "build"}
      <details>
        <summary>Build file, stage, arguments</summary>
        <div class="more">
          <TextField
            name="Build file"
            placeholder="build file: Dockerfile"
            value={file}
            onchange={(text) => (file = text ?? "")}
          />
          <TextField
            name="Stage"
            placeholder="target stage: the last"
            value={stage}
            onchange={(text) => (stage = text ?? "")}
          />
          <CheckField label="No cache" value={noCache} onchange={(next) => (noCache = next)} />
          <TextArea
            aria-label="Build arguments"
            placeholder="build arguments, one NAME=value per line"
            rows={3}
            bind:value={values}
          />
        </div>
      </details>
    {/if}
    {#if busy}
      <Button size="small" kind="tertiary" on:click={() => leave?.abort()}>Cancel</Button>
    {:else}
      <Button size="small" type="submit" disabled={!ready}>{open === "build" ? "Build" : "Import"}</Button>
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
  details {
    flex-basis: 100%;
    font-size: 0.8125rem;
  }
  summary {
    cursor: pointer;
  }
  .more {
    display: flex;
    flex-wrap: wrap;
    gap: 0.6rem;
    align-items: start;
    padding-top: 0.4rem;
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
