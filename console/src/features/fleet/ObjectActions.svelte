<!-- Actions on a volume or a network: removal, with its users named first. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { sentence } from "../../lib/api";
  import { filesOf, raw } from "../files/files";
  import { pending } from "../../lib/session.svelte";
  import type { OperationWish } from "../../lib/types";
  import ToolButton from "../../ui/ToolButton.svelte";
  import Upload from "../../ui/form/Upload.svelte";

  let { kind, reference, users }: { kind: "volume" | "network"; reference: string; users: string[] } =
    $props();

  function remove() {
    const change = kind === "volume" ? ("remove-volume" as const) : ("remove-network" as const);
    pending.wish = {
      kind: change,
      containers: [],
      title: `Remove ${reference}`,
      request: { kind: change, targets: [reference] },
    };
  }

  function goes(change: "move" | "clone") {
    const request = {
      kind: change,
      what: "volume",
      targets: [reference],
      to: "",
    } as unknown as OperationWish;
    const title = change === "move" ? `Move ${reference}` : `Clone ${reference}`;
    pending.wish = { kind: change, containers: [], request, title };
  }

  let said = $state("");
  let failed = $state(false);
  let chosen = $state.raw<File | null>(null);

  async function restore() {
    if (!chosen) return;
    const archive = chosen;
    [chosen, failed, said] = [null, false, `Sending ${archive.name}…`];
    try {
      await raw("PUT", `${filesOf("volume", reference)}/data`, archive);
      said = `${archive.name} is unpacked into it.`;
    } catch (error) {
      [failed, said] = [true, sentence(error)];
    }
  }
</script>

<div class="acts">
  <Button size="small" kind="danger-tertiary" disabled={users.length > 0} on:click={remove}>Remove…</Button>
  {#if kind === "volume"}
    <Button size="small" kind="ghost" disabled={users.length > 0} on:click={() => goes("move")}>Move…</Button>
    <Button size="small" kind="ghost" on:click={() => goes("clone")}>Clone to…</Button>
    <a href={`/api/v1/volumes/${reference.split("/").map(encodeURIComponent).join("/")}/data`} download
      >Download data</a
    >
    <Upload label="Restore…" name="Archive to restore" onfiles={(files) => (chosen = files[0] ?? null)} />
  {/if}
  {#if users.length > 0}
    <span class="soft"
      >{users.join(", ")} {users.length === 1 ? "uses" : "use"} it, so it cannot be removed.</span
    >
  {/if}
</div>
{#if chosen}
  <p class="ask" data-test="restore">
    <span
      >Unpack <strong>{chosen.name}</strong> into it? Files of the same name are overwritten, the rest stays.{users.length >
      0
        ? ` ${users.join(", ")} may be using it.`
        : ""}</span
    >
    <Button size="small" kind="danger" on:click={() => void restore()}>Restore</Button>
    <ToolButton onclick={() => (chosen = null)}>Cancel</ToolButton>
  </p>
{/if}
{#if said}<p class:failed role="status" data-test="restored">{said}</p>{/if}

<style>
  .ask {
    display: flex;
    gap: 0.6rem;
    align-items: center;
    font-size: 0.8125rem;
  }
  .failed {
    color: var(--state-failed);
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.8rem;
    align-items: center;
    margin: 0.6rem 0;
    font-size: 0.75rem;
  }
</style>
