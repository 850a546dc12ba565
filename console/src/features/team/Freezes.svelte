<!-- What is frozen, above every page: who holds changes to what, until when and why; and freezing something. -->
<script lang="ts">
  import { Button, InlineNotification } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import { held } from "./words";

  let wrong = $state("");
  let busy = $state(false);

  const holding = $derived(live.team.freezes.filter((freeze) => Date.parse(freeze.until) > live.now));

  async function lift(id: number) {
    [busy, wrong] = [true, ""];
    try {
      await call("DELETE", `/api/v1/freezes/${id}`);
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }
</script>

{#each holding as one (one.id)}
  <InlineNotification kind="warning" lowContrast hideCloseButton title={held(one)} subtitle={one.reason}>
    <svelte:fragment slot="actions">
      {#if one.member === session.member || session.isAdmin}
        <Button size="small" kind="ghost" disabled={busy} on:click={() => void lift(one.id)}>Lift</Button>
      {/if}
    </svelte:fragment>
  </InlineNotification>
{/each}
{#if wrong}
  <InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />
{/if}
