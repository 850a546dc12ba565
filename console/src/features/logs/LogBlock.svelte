<!-- A run of log lines. Full ones never change, so that a long log costs nothing to keep. -->
<script lang="ts">
  import { pieces } from "./colour";
  import { lineTime, type Clock } from "../../lib/format";
  import { query } from "../../lib/router.svelte";
  import type { SourcedLine } from "../../lib/types";

  let {
    id,
    lines,
    clock,
    many,
    current,
    linked,
  }: {
    id: number;
    lines: SourcedLine[];
    clock: Clock;
    /** Several sources: each line says whose it is. */
    many: boolean;
    current: string;
    linked: string;
  } = $props();

  let opened = $state.raw(new Set<number>());

  /** The text in pieces, cut where matches begin and end. */
  function parts(line: SourcedLine): { text: string; tone: string; hit: boolean }[] {
    if (!line.matches?.length || line.text.includes("\u001b"))
      return pieces(line.text).map((p) => ({ ...p, hit: false }));
    const out: { text: string; tone: string; hit: boolean }[] = [];
    let at = 0;
    for (const [from = 0, to = 0] of line.matches) {
      for (const [part, hit] of [
        [line.text.slice(at, from), false],
        [line.text.slice(from, to), true],
      ] as const) {
        for (const p of pieces(part)) if (p.text) out.push({ ...p, hit });
      }
      at = to;
    }
    for (const p of pieces(line.text.slice(at))) if (p.text) out.push({ ...p, hit: false });
    return out;
  }

  function foldable(text: string): boolean {
    return text.startsWith("{") && text.endsWith("}") && text.length > 2;
  }

  /** A JSON line as its fields; null when it is none. */
  function fields(text: string): [string, string][] | null {
    try {
      const value = JSON.parse(text) as Record<string, unknown>;
      return Object.entries(value).map(([k, v]) => [
        k,
        typeof v === "string" ? v : JSON.stringify(v, null, 2),
      ]);
    } catch {
      return null;
    }
  }

  function toggle(index: number) {
    const next = new Set(opened);
    if (!next.delete(index)) next.add(index);
    opened = next;
  }

  /** The same source has the same tone wherever it appears. */
  function tone(source: string): string {
    let sum = 0;
    for (let i = 0; i < source.length; i += 1) sum = (sum * 31 + source.charCodeAt(i)) >>> 0;
    return `source-${sum % 8}`;
  }
</script>

<div class="block">
  {#each lines as line, index (index)}
    <div
      class={`line level-${line.level ?? "none"}`}
      id={`line-${id}-${index}`}
      class:err={line.stream === "stderr"}
      class:current={current === `${id}-${index}` || (linked !== "" && line.time === linked)}
    >
      {#if clock !== "off"}<button
          class="time"
          title={`${line.time ?? ""} – link to this line`}
          onclick={() => line.time && query({ line: line.time }, true)}>{lineTime(line.time, clock)}</button
        >{/if}{#if many}<button
          class={`source ${tone(line.source)}`}
          title={line.source}
          onclick={() => query({ inspect: line.source, tab: "logs" })}>{line.source}</button
        >{/if}{#if foldable(line.text)}<button class="fold" aria-label="Expand" onclick={() => toggle(index)}
          >{opened.has(index) ? "▾" : "▸"}</button
        >{/if}<span class="text"
        >{#each parts(line) as piece, n (n)}<span class={piece.hit ? `${piece.tone} hit` : piece.tone}
            >{piece.text}</span
          >{/each}</span
      >
    </div>
    {#if opened.has(index)}
      <dl>
        {#each fields(line.text) ?? [["line", line.text]] as [name, value] (name)}
          <dt>{name}</dt>
          <dd>{value}</dd>
        {/each}
      </dl>
    {/if}
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
  /* Where there is no room beside them, time and source stand above the line. */
  @container (max-width: 40rem) {
    .line {
      flex-wrap: wrap;
      gap: 0 0.75rem;
      padding-bottom: 0.35rem;
    }
    .line .source {
      width: auto;
      max-width: 70%;
    }
    .line .text {
      flex: 1 0 100%;
    }
  }
  .err {
    border-left-color: var(--state-sick);
  }
  .level-error .text,
  .level-fatal .text {
    color: var(--state-failed);
  }
  .level-warning .text {
    color: var(--state-halted);
  }
  .level-debug .text,
  .level-trace .text {
    color: var(--cds-text-02);
  }
  .time,
  .source,
  .fold {
    flex: none;
    border: 0;
    padding: 0;
    background: none;
    font: inherit;
    color: var(--cds-text-02);
    cursor: pointer;
    user-select: none;
  }
  .source {
    width: 15rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    text-align: left;
  }
  .source-0 {
    color: var(--chart-0);
  }
  .source-1 {
    color: var(--chart-1);
  }
  .source-2 {
    color: var(--chart-2);
  }
  .source-3 {
    color: var(--chart-3);
  }
  .source-4 {
    color: var(--chart-4);
  }
  .source-5 {
    color: var(--chart-5);
  }
  .source-6 {
    color: var(--chart-6);
  }
  .source-7 {
    color: var(--chart-7);
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
    background: color-mix(in srgb, #e0b84c 55%, transparent);
  }
  .current {
    background: color-mix(in srgb, #e0b84c 30%, transparent);
  }
  dl {
    display: grid;
    grid-template-columns: minmax(6rem, max-content) 1fr;
    gap: 0 1rem;
    padding: 0.2rem 0.75rem 0.4rem 3rem;
  }
  dt {
    color: var(--cds-text-02);
  }
  dd {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
</style>
