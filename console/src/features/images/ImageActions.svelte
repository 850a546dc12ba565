<!-- Actions on an image: pull to more hosts, push, tag, deploy, remove. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { ImageRow, OperationWish } from "../../lib/types";
  import RunOnce from "../exec/RunOnce.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

  let { image }: { image: ImageRow } = $props();

  let naming = $state(false);
  let newName = $state("");
  let fetching = $state(false);
  let trying = $state(false);
  let chosen = $state.raw<string[]>([]);

  const name = $derived(image.tags[0] ?? image.id);
  const here = $derived(image.copies.map((c) => c.host));
  const unused = $derived(image.copies.every((c) => c.used_by.length === 0));
  const hosts = $derived(live.hosts.filter((h) => h.state === "live").map((h) => h.name));

  function ask(title: string, request: OperationWish) {
    pending.wish = { kind: request.kind, containers: [], title, request };
  }
  const toggle = (host: string) =>
    (chosen = chosen.includes(host) ? chosen.filter((h) => h !== host) : [...chosen, host]);
</script>

<div class="acts">
  {#if image.tags.length > 0}
    <Button
      size="small"
      kind="tertiary"
      href={`/deploy?image=${encodeURIComponent(name)}&host=${here[0] ?? ""}`}>Deploy</Button
    >
    <Button
      size="small"
      kind="tertiary"
      on:click={() => {
        [fetching, naming, trying] = [!fetching, false, false];
        chosen = [];
      }}>Pull…</Button
    >
    <Button
      size="small"
      kind="ghost"
      on:click={() =>
        ask(`Push ${name} from ${here[0] ?? ""}`, { kind: "push", targets: here.slice(0, 1), image: name })}
      >Push…</Button
    >
    <Button size="small" kind="ghost" on:click={() => ([naming, fetching, trying] = [!naming, false, false])}
      >Tag…</Button
    >
    <Button size="small" kind="ghost" on:click={() => ([trying, naming, fetching] = [!trying, false, false])}
      >Run once…</Button
    >
  {/if}
  {#if image.tags.length > 0 && here[0]}
    <a
      href={`/api/v1/hosts/${encodeURIComponent(here[0])}/image-archive?image=${encodeURIComponent(name)}`}
      download>Export</a
    >
  {/if}
  <Button
    size="small"
    kind="danger-tertiary"
    disabled={!unused}
    on:click={() =>
      ask(`Remove ${name}`, { kind: "remove-image", targets: here.map((host) => `${host}/${name}`) })}
    >Remove…</Button
  >
</div>
{#if !unused}<p class="soft">In use by containers, so it cannot be removed.</p>{/if}
{#if fetching}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      ask(`Pull ${name}`, { kind: "pull", targets: chosen, image: name });
      fetching = false;
    }}
  >
    {#each hosts as host (host)}
      <CheckField
        label={`${host}${here.includes(host) ? " has it" : ""}`}
        value={chosen.includes(host)}
        onchange={() => toggle(host)}
      />
    {/each}
    <Button size="small" type="submit" disabled={chosen.length === 0}>Pull to {chosen.length}…</Button>
  </form>
{/if}
{#if trying}
  <p class="soft">Runs one command in a new container, which is removed when the command exits.</p>
  <RunOnce image={name} hosts={here.filter((h) => hosts.includes(h))} />
{/if}
{#if naming}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      ask(`Tag ${name}`, { kind: "tag", targets: here, image: name, new_name: newName.trim() });
      naming = false;
    }}
  >
    <TextField
      name="New name"
      placeholder="registry.example/name:tag"
      value={newName}
      onchange={(text) => (newName = text ?? "")}
    />
    <Button size="small" type="submit" disabled={!newName.trim()}>Tag…</Button>
  </form>
{/if}

<style>
  .acts,
  form {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem 0.8rem;
    align-items: center;
    margin: 0.6rem 0;
  }
  p {
    font-size: 0.75rem;
  }
</style>
