<!-- The notes on an image, for each host that has it: what holds on one host may not hold on another. -->
<script lang="ts">
  import { Select, SelectItem } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import type { ImageDetail } from "../../lib/types";
  import Notes from "../team/Notes.svelte";

  let { id }: { id: string } = $props();

  let image = $state.raw<ImageDetail["image"] | null>(null);
  let host = $state("");
  let wrong = $state("");

  $effect(() => {
    const asked = id;
    call<ImageDetail>("GET", `/api/v1/images/${encodeURIComponent(asked)}`)
      .then((found) => {
        if (asked !== id) return;
        image = found.image;
        host = found.image.copies[0]?.host ?? "";
      })
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  /** A note stays with the name; an image without one has only its id. */
  const name = $derived(image?.tags[0] ?? image?.id ?? "");
</script>

<div class="facts">
  {#if wrong}<p class="soft">{wrong}</p>
  {:else if !image}<p class="soft">Loading…</p>
  {:else}
    {#if image.copies.length > 1}
      <Select labelText="On host" size="sm" bind:selected={host}>
        {#each image.copies as copy (copy.host)}<SelectItem value={copy.host} text={copy.host} />{/each}
      </Select>
    {/if}
    {#key host}<Notes on={`image:${host}/${name}`} />{/key}
  {/if}
</div>
