<!-- A run of log lines. Full ones never change, so that a long log costs nothing to keep. -->
<script lang="ts">
  import { pieces } from "../lib/colour";
  import { lineTime, type Clock } from "../lib/format";
  import type { Line } from "../lib/types";

  let {
    id,
    lines,
    clock,
    needle,
    current,
  }: { id: number; lines: Line[]; clock: Clock; needle: string; current: string } = $props();
</script>

<div class="block">
  {#each lines as line, index (index)}
    <div
      class="line"
      id={`line-${id}-${index}`}
      class:err={line.stream === "stderr"}
      class:hit={needle !== "" && line.text.toLowerCase().includes(needle)}
      class:current={current === `${id}-${index}`}
    >
      {#if clock !== "off"}<time>{lineTime(line.time, clock)}</time>{/if}<span class="text"
        >{#each pieces(line.text) as piece, n (n)}<span class={piece.tone}>{piece.text}</span>{/each}</span
      >
    </div>
  {/each}
</div>

<style>
  .block {
    content-visibility: auto;
    contain-intrinsic-size: auto 3600px;
  }
  .line {
    display: flex;
    gap: 0.75rem;
    padding: 0 0.75rem;
    border-left: 3px solid transparent;
  }
  .err {
    border-left-color: var(--state-sick);
  }
  time {
    flex: none;
    color: var(--cds-text-02);
    user-select: none;
  }
  .text {
    white-space: pre;
  }
  :global(.log.wrap) .text {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    min-width: 0;
  }
  .hit {
    background: color-mix(in srgb, #e0b84c 28%, transparent);
  }
  .current {
    background: color-mix(in srgb, #e0b84c 60%, transparent);
  }
</style>
