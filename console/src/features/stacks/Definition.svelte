<!-- The text of a revision with its files and variables, to be read. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import type { StackDefinition } from "../../lib/types";
  import { editOf } from "./words";
  import YamlEditor from "./YamlEditor.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";

  let { host, stack, number }: { host: string; stack: string; number: number } = $props();

  let kept = $state.raw<StackDefinition | null>(null);
  let shown = $state("");
  let wrong = $state("");
  $effect(() => {
    const path = `/api/v1/stacks/${encodeURIComponent(host)}/${encodeURIComponent(stack)}/revisions/${number}`;
    call<StackDefinition>("GET", path)
      .then((found) => {
        kept = found;
        shown = found.main[0] ?? Object.keys(found.files)[0] ?? "";
      })
      .catch((error: unknown) => (wrong = sentence(error)));
  });
  const names = $derived(Object.keys(kept?.files ?? {}).sort());
  const variables = $derived(Object.entries(kept?.variables ?? {}));
  const scale = $derived(Object.entries(kept?.scale ?? {}));
</script>

{#if wrong}<p>{wrong}</p>{/if}
{#if kept}
  <div class="tools">
    {#each names as name (name)}
      <ToolButton pressed={shown === name} onclick={() => (shown = name)}>{name}</ToolButton>
    {/each}
    <span class="push"></span>
    <Button size="small" kind="tertiary" href={editOf(host, stack, number)}>Edit from here</Button>
  </div>
  {#if variables.length > 0 || scale.length > 0 || kept.profiles.length > 0}
    <p class="with mono">
      {#each variables as [name, value] (name)}<span>{name}={value}</span>{/each}
      {#each scale as [service, count] (service)}<span>{count} × {service}</span>{/each}
      {#each kept.profiles as profile (profile)}<span>profile {profile}</span>{/each}
    </p>
  {/if}
  <div class="text">
    {#key shown}<YamlEditor value={kept.files[shown] ?? ""} label={`Text of ${shown}`} />{/key}
  </div>
{/if}

<style>
  .with {
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 1rem;
    margin: 0.5rem 0;
    font-size: 0.8125rem;
  }
  .text {
    flex: 1;
    min-height: 16rem;
    margin-top: 0.5rem;
  }
</style>
