<!-- Actions on one container: those that fit its state as buttons, the rest under More, destructive ones last. -->
<script lang="ts">
  import { Button, OverflowMenu, OverflowMenuItem } from "carbon-components-svelte";

  import { reference, verbs } from "../../lib/format";
  import { go } from "../../lib/router.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import type { Container, Kind, OperationWish } from "../../lib/types";

  let { container }: { container: Container } = $props();

  interface Act {
    text: string;
    act: () => void;
    /** It destroys something, or ends it without asking. */
    danger?: boolean;
    allowed: boolean;
    disabled?: boolean;
  }

  const itself = $derived(container.is_self);
  const alive = $derived(["running", "paused", "restarting"].includes(container.state));

  function ask(kind: Kind, danger = false): Act {
    return {
      text: `${verbs[kind].ask}…`,
      act: () => (pending.wish = { kind, containers: [container] }),
      danger,
      allowed: session.mayChange(kind),
      disabled: itself && kind !== "start",
    };
  }

  /** A stack's container goes with its stack. */
  function move(): void {
    const targets = [reference(container)];
    const request = { kind: "move", what: "container", targets, to: "" } as unknown as OperationWish;
    pending.wish = { kind: "move", containers: [], request, title: `Move ${reference(container)}` };
  }

  const edit = $derived<Act>({
    text: "Change settings",
    act: () => go(`/deploy?edit=${reference(container)}`),
    allowed: session.mayChange("update"),
    disabled: itself,
  });
  const first = $derived(
    (container.state === "paused"
      ? [ask("resume"), ask("stop")]
      : alive
        ? [ask("restart"), ask("stop"), ask("update")]
        : [ask("start"), edit]
    ).filter((act) => act.allowed),
  );
  const more = $derived(
    [
      ...(alive && container.state !== "paused" ? [ask("pause")] : [ask("update")]),
      ...(alive ? [edit] : []),
      {
        text: "Clone to…",
        act: () => go(`/deploy?from=${reference(container)}`),
        allowed: session.mayChange("deploy"),
      },
      { text: "Move…", act: move, allowed: !container.stack && !itself && session.mayChange("move") },
      ...(alive ? [ask("kill", true)] : []),
      ask("remove", true),
    ].filter((act) => act.allowed),
  );
</script>

{#if first.length + more.length > 0}
  <div class="acts">
    {#each first as one (one.text)}
      <Button size="small" kind="tertiary" disabled={one.disabled} on:click={one.act}>{one.text}</Button>
    {/each}
    {#if more.length > 0}
      <OverflowMenu iconDescription="More actions" size="sm" data-test="more" portalMenu={false}>
        {#each more as one (one.text)}
          <OverflowMenuItem
            text={one.text}
            danger={one.danger}
            hasDivider={one.danger && !more[more.indexOf(one) - 1]?.danger}
            disabled={one.disabled}
            on:click={one.act}
          />
        {/each}
      </OverflowMenu>
    {/if}
  </div>
{/if}

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
    align-items: center;
    margin: 0.7rem 0;
  }
</style>
