<!-- Running operations of all members, at the foot of every page; finished ones stay for a while. -->
<script lang="ts">
  import { tally, verbs } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import { isLong, notices, words } from "../lib/notices.svelte";
  import { pending, session } from "../lib/session.svelte";
  import type { Container, Kind, ObjectKind, Operation } from "../lib/types";
  import InlineAction from "../ui/InlineAction.svelte";
  import RemoveButton from "../ui/RemoveButton.svelte";

  /** Milliseconds that one stays after it is over; one that failed, or that one waited long for, stays until it is closed. */
  const STAYS = 12_000;
  const MOST = 3;

  let now = $state(Date.now());

  $effect(() => {
    const timer = setInterval(() => (now = Date.now()), 1000);
    return () => clearInterval(timer);
  });

  const began = Date.now();
  const shown = $derived(
    live.operations
      .filter((o) => !notices.closed.has(o.id))
      .filter((o) => {
        if (o.state === "running") return true;
        const ended = Date.parse(o.ended ?? o.created);
        return ended > began && (tally(o).bad > 0 || isLong(o) || now - ended < STAYS);
      })
      .slice(0, MOST),
  );

  /** What takes it back, where the engine allows that: what was stopped starts again, what was paused goes on. */
  const BACK: Partial<Record<Operation["kind"], [Kind, string]>> = {
    stop: ["start", "Start again…"],
    pause: ["resume", "Resume…"],
  };

  function undone(o: Operation): { kind: Kind; label: string; containers: Container[] } | null {
    const back = o.state !== "running" && o.author === session.member ? BACK[o.kind] : undefined;
    if (!back) return null;
    const containers = o.targets
      .filter((t) => t.state === "succeeded")
      .map((t) => live.container(t.host, t.name))
      .filter((c): c is Container => !!c && c.state !== "running");
    return containers.length > 0 ? { kind: back[0], label: back[1], containers } : null;
  }

  function object(o: Operation): string {
    const only = o.targets.length === 1 ? o.targets[0] : undefined;
    return only
      ? `${only.host}/${only.name}`
      : o.references.length === 1
        ? (o.references[0] ?? "")
        : `${o.targets.length} ${plural(o)}`;
  }

  const PLURALS: Record<ObjectKind, string> = {
    container: "containers",
    image: "images",
    volume: "volumes",
    network: "networks",
    cache: "build caches",
  };

  /** What the targets are, in one word when they are alike. */
  function plural(o: Operation): string {
    const kinds = new Set(o.targets.map((t) => t.object));
    const only = kinds.size === 1 ? [...kinds][0] : undefined;
    if (only === "image") return `images on ${new Set(o.targets.map((t) => t.host)).size} hosts`;
    return only ? PLURALS[only] : "things";
  }
</script>

{#if shown.length > 0}
  <footer data-test="running" aria-live="polite">
    {#each shown as o (o.id)}
      {@const t = tally(o)}
      <div class:bad={t.bad > 0}>
        <progress value={t.done} max={Math.max(t.all, 1)}></progress>
        <a href={`/operations/${o.id}`}>{verbs[o.kind].doing} {object(o)}</a>
        <span>{words(o)}</span>
        <span class="soft">by {o.author}</span>
        {#if o.state !== "running"}
          {@const back = undone(o)}
          {#if back}
            <InlineAction
              onclick={() => {
                notices.close(o.id);
                pending.wish = { kind: back.kind, containers: back.containers };
              }}>{back.label}</InlineAction
            >
          {/if}
          <span class="push"></span>
          <RemoveButton name="Close" onclick={() => notices.close(o.id)} />
        {/if}
      </div>
    {/each}
  </footer>
{/if}

<style>
  /* Above an inspector that takes the screen: the outcome of a press is seen. */
  footer {
    position: relative;
    z-index: 110;
    border-top: 1px solid var(--line);
    background: var(--panel);
    font-size: 0.875rem;
  }
  footer > div {
    display: flex;
    align-items: center;
    gap: 0.9rem;
    padding: 0.4rem 1.5rem;
    border-left: 4px solid var(--state-runs);
  }
  footer > div.bad {
    border-left-color: var(--state-failed);
  }
  footer span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  footer a {
    white-space: nowrap;
  }
  progress {
    width: 8rem;
    height: 0.5rem;
    flex: none;
    accent-color: var(--state-runs);
  }
  .push {
    flex: 1;
  }
  @media (max-width: 42rem) {
    footer > div {
      flex-wrap: wrap;
      gap: 0.2rem 0.75rem;
      padding: 0.4rem 1rem;
    }
    footer a,
    footer span {
      white-space: normal;
      overflow-wrap: anywhere;
    }
    progress {
      width: 3rem;
    }
  }
</style>
