<!-- Actions on all containers of a stack; each shows its preview. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import type { Kind, StackRow } from "../../lib/types";

  let { stack }: { stack: StackRow } = $props();

  const KINDS: Kind[] = ["update", "restart", "stop", "start"];

  const members = $derived.by(() => {
    const all = stack.services.flatMap((s) => s.containers);
    const found = all.map((reference) => live.container(...(reference.split("/") as [string, string])));
    return found.filter((c) => c !== undefined);
  });

  function ask(kind: Kind) {
    const containers = members.filter((c) =>
      kind === "start" ? c.state !== "running" : kind === "update" || c.state === "running",
    );
    pending.wish = { kind, containers, title: `${verbs[kind].ask} the stack ${stack.name}` };
  }
</script>

<div class="acts">
  {#each KINDS.filter((kind) => session.mayChange(kind)) as kind (kind)}
    <Button
      size="small"
      kind="tertiary"
      disabled={!members.some((c) =>
        kind === "start" ? c.state !== "running" : kind === "update" || c.state === "running",
      )}
      on:click={() => ask(kind)}>{verbs[kind].ask} all…</Button
    >
  {/each}
</div>

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
    margin: 0.6rem 0;
  }
</style>
