<!-- Where something goes, or where its copy is made, and how its data goes along. -->
<script lang="ts">
  import { Checkbox, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { live } from "../../lib/live.svelte";
  import { moveSettings, type MoveForm } from "./moveForm";

  let {
    kind,
    what,
    from,
    onchange,
  }: {
    kind: "move" | "clone";
    what: string;
    from: string;
    /** Gets the settings for the request; null while they are not complete. */
    onchange: (settings: Record<string, unknown> | null) => void;
  } = $props();

  const hosts = $derived(live.hosts.map((h) => h.name).filter((name) => kind === "clone" || name !== from));
  let form = $state<MoveForm>({
    to: "",
    name: "",
    ports: "",
    firstPass: false,
    running: false,
    pull: false,
    unverified: false,
    keep: false,
    removeVolumes: false,
  });
  const read = $derived(moveSettings(kind, form));

  $effect(() => {
    // The host where it is not yet is meant most often.
    if (!form.to) form.to = hosts.find((name) => name !== from) ?? hosts[0] ?? "";
  });
  $effect(() => onchange(read.settings));
</script>

<div class="goal">
  <Select labelText="Target host" bind:selected={form.to}>
    {#each hosts as name (name)}<SelectItem value={name} text={name} />{/each}
  </Select>
  <TextInput
    labelText="New name"
    helperText={kind === "clone" ? "A copy on the same host needs another name" : "Empty: unchanged"}
    bind:value={form.name}
  />
</div>
{#if hosts.length === 0}<p class="soft">The fleet has no other host.</p>{/if}
{#if kind === "clone"}
  <Checkbox labelText="Keep the original running while its data is copied" bind:checked={form.running} />
{:else}
  {#if what !== "volume"}
    <Checkbox labelText="Copy the data once while it runs, for less downtime" bind:checked={form.firstPass} />
  {/if}
  <Checkbox
    labelText={what === "volume" ? "Keep the original" : "Keep the original, stopped"}
    bind:checked={form.keep}
    disabled={form.removeVolumes}
  />
{/if}
<details>
  <summary>More options</summary>
  {#if what !== "volume"}
    <TextInput
      labelText="Other host ports"
      placeholder="7311=17311"
      helperText="old=new, separated by commas"
      invalid={read.wrong !== ""}
      invalidText={read.wrong}
      bind:value={form.ports}
    />
    <Checkbox
      labelText={`Pull images from their registries instead of copying them from ${from}`}
      bind:checked={form.pull}
    />
    {#if kind === "move"}
      <Checkbox
        labelText="Remove the original's volumes too, once the copy runs"
        bind:checked={form.removeVolumes}
        disabled={form.keep}
      />
    {/if}
  {/if}
  <Checkbox labelText="Skip verifying the copied data" bind:checked={form.unverified} />
</details>

<style>
  .goal {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(12rem, 1fr));
    gap: 0.75rem;
    margin-bottom: 0.5rem;
  }
  details {
    margin: 0.5rem 0 1rem;
    font-size: 0.875rem;
  }
  summary {
    cursor: pointer;
    margin-bottom: 0.5rem;
  }
</style>
