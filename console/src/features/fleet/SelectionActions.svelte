<!-- Actions on the selected containers: those that fit their state as buttons, the rest under More, destructive ones last. -->
<script lang="ts">
  import { Button, OverflowMenu, OverflowMenuItem } from "carbon-components-svelte";

  import { reference, verbs } from "../../lib/format";
  import { go } from "../../lib/router.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import type { Container, Kind } from "../../lib/types";

  let { containers, onclear }: { containers: Container[]; onclear: () => void } = $props();

  const DESTROYS: Kind[] = ["kill", "remove"];

  const anyUp = $derived(containers.some((c) => ["running", "restarting"].includes(c.state)));
  const anyPaused = $derived(containers.some((c) => c.state === "paused"));
  const anyDown = $derived(containers.some((c) => !["running", "restarting", "paused"].includes(c.state)));
  /** What would do something with at least one of them. */
  const possible = $derived<Kind[]>([
    ...(anyUp ? (["restart", "stop"] as const) : []),
    ...(anyDown ? (["start"] as const) : []),
    "update",
    ...(anyPaused ? (["resume"] as const) : []),
    ...(anyUp ? (["pause", "kill"] as const) : []),
    "remove",
  ]);
  const kinds = $derived(possible.filter((kind) => session.mayChange(kind)));
  const first = $derived(kinds.filter((kind) => !DESTROYS.includes(kind)).slice(0, 3));
  const more = $derived(kinds.filter((kind) => !first.includes(kind)));
  const references = $derived(containers.map(reference).join(","));

  function ask(kind: Kind) {
    pending.wish = { kind, containers };
  }
</script>

<div class="chosen" data-test="chosen">
  <strong>{containers.length} selected</strong>
  {#each first as kind (kind)}
    <Button size="small" kind="tertiary" on:click={() => ask(kind)}>{verbs[kind].ask}…</Button>
  {/each}
  <OverflowMenu size="sm" direction="top" flipped iconDescription="More actions for the selection">
    <OverflowMenuItem text="Logs" on:click={() => go(`/logs?refs=${references}`)} />
    <OverflowMenuItem text="Usage" on:click={() => go(`/use?refs=${references}`)} />
    {#each more as kind, n (kind)}
      <OverflowMenuItem
        text={`${verbs[kind].ask}…`}
        danger={DESTROYS.includes(kind)}
        hasDivider={n === 0 || (DESTROYS.includes(kind) && !DESTROYS.includes(more[n - 1] ?? kind))}
        on:click={() => ask(kind)}
      />
    {/each}
  </OverflowMenu>
  <Button size="small" kind="ghost" on:click={onclear}>Clear</Button>
</div>

<style>
  .chosen {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.5rem;
    padding: 0.5rem 1rem;
    border-top: 2px solid var(--cds-interactive-01);
    background: var(--panel);
  }
</style>
