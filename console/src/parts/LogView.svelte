<!--
  A container's log: follow with pause, search in view, times, wrap, download, copy. A pause loses
  nothing: lines then wait at the engine until it ends. The view keeps the last lines; all of them are
  in the download.
-->
<script lang="ts">
  import { tick } from "svelte";
  import { pieces } from "../lib/colour";
  import { lineTime, type Clock } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Container, Line } from "../lib/types";
  import LogBlock from "./LogBlock.svelte";

  let { container }: { container: Container } = $props();

  /** Lines of one block: a block that is full never changes again. */
  const BLOCK = 200;
  /** The view holds so many lines; older ones leave it. */
  const HELD = 10_000;
  const AT_FIRST = 500;
  const CLOCKS: Clock[] = ["24h", "12h", "off"];

  interface Block {
    id: number;
    lines: Line[];
  }

  let blocks = $state.raw<Block[]>([]);
  let paused = $state(false);
  let waiting = $state(0);
  let ended = $state<string | null>(null);
  let left = $state(0);
  let typed = $state("");
  let clock = $state<Clock>((localStorage.getItem("gubernum.clock") as Clock | null) ?? "24h");
  let wrap = $state(localStorage.getItem("gubernum.wrap") !== "no");
  let stick = $state(true);
  let at = $state(0);
  let frame: HTMLDivElement | undefined = $state();

  let subscription = 0;
  let arrived: Line[] = [];
  let owed = 0;
  let drawing = false;
  let nextBlock = 0;
  let last: Line | undefined;
  /** Lines of the very last moment, to drop repeats after a resume. */
  let sameMoment: string[] = [];

  function begin(resume: boolean) {
    ended = null;
    const wish = resume && last?.time ? { since: last.time } : { tail: AT_FIRST };
    const seen = resume ? new Set(sameMoment) : new Set<string>();
    subscription = live.log(
      { reference: `${container.host}/${container.name}`, follow: true, ...wish },
      {
        lines(lines, bytes) {
          const fresh = seen.size
            ? lines.filter((l) => !seen.delete(`${l.time} ${l.stream} ${l.text}`))
            : lines;
          arrived.push(...fresh);
          owed += bytes;
          if (paused) waiting += fresh.length;
          else later();
        },
        ended(problem) {
          ended = problem ? problem.detail : "";
          later();
        },
      },
    );
  }

  function later() {
    if (drawing) return;
    drawing = true;
    requestAnimationFrame(() => {
      drawing = false;
      void draw();
    });
  }

  async function draw() {
    if (paused) return;
    const lines = arrived;
    arrived = [];
    waiting = 0;
    if (lines.length > 0) add(lines);
    // Only what is drawn is paid for, so that a slow tab slows the stream and not itself.
    if (owed > 0) {
      live.taken(subscription, owed);
      owed = 0;
    }
    if (stick) {
      await tick();
      if (frame) frame.scrollTop = frame.scrollHeight;
    }
  }

  function add(lines: Line[]) {
    const next = [...blocks];
    for (const line of lines) {
      const open = next.at(-1);
      if (open && open.lines.length < BLOCK)
        next[next.length - 1] = { id: open.id, lines: [...open.lines, line] };
      else next.push({ id: nextBlock++, lines: [line] });
      if (line.time !== last?.time) sameMoment = [];
      sameMoment.push(`${line.time} ${line.stream} ${line.text}`);
      last = line;
    }
    while (next.length * BLOCK > HELD + BLOCK) left += next.shift()?.lines.length ?? 0;
    blocks = next;
  }

  $effect(() => {
    begin(false);
    return () => live.endLog(subscription);
  });

  // A container that was started again, or a connection that came back, goes on where it stopped.
  $effect(() => {
    const alive = container.state === "running";
    if (ended !== null && alive && live.status === "on") {
      const timer = setTimeout(() => begin(true), 1000);
      return () => clearTimeout(timer);
    }
  });

  function togglePause() {
    paused = !paused;
    if (!paused) {
      stick = true;
      later();
    }
  }

  function scrolled() {
    if (!frame) return;
    stick = frame.scrollHeight - frame.scrollTop - frame.clientHeight < 24;
  }

  const needle = $derived(typed.toLowerCase());
  const hits = $derived.by(() => {
    if (!needle) return [];
    const found: string[] = [];
    for (const block of blocks) {
      block.lines.forEach((line, index) => {
        if (line.text.toLowerCase().includes(needle)) found.push(`${block.id}-${index}`);
      });
    }
    return found;
  });

  function jump(by: number) {
    if (hits.length === 0) return;
    at = (at + by + hits.length) % hits.length;
    stick = false;
    document.getElementById(`line-${hits[at]}`)?.scrollIntoView({ block: "center" });
  }

  function plain(): string {
    const all: string[] = [];
    for (const block of blocks) {
      for (const line of block.lines) {
        const time = lineTime(line.time, clock);
        const text = pieces(line.text)
          .map((p) => p.text)
          .join("");
        all.push(time ? `${time} ${text}` : text);
      }
    }
    return all.join("\n");
  }

  function nextClock() {
    clock = CLOCKS[(CLOCKS.indexOf(clock) + 1) % CLOCKS.length] ?? "24h";
    localStorage.setItem("gubernum.clock", clock);
  }

  function toggleWrap() {
    wrap = !wrap;
    localStorage.setItem("gubernum.wrap", wrap ? "yes" : "no");
  }

  const download = $derived(
    `/api/v1/containers/${encodeURIComponent(container.host)}/${encodeURIComponent(container.name)}/logs?format=text&times=${clock !== "off"}`,
  );
</script>

<div class="tools">
  <button class="main" class:paused onclick={togglePause} aria-pressed={paused} data-test="pause">
    {paused ? `Go on${waiting ? ` (${waiting} waiting)` : ""}` : "Pause"}
  </button>
  <input
    placeholder="Find in view"
    aria-label="Find in the log"
    bind:value={typed}
    oninput={() => (at = 0)}
    onkeydown={(event) => event.key === "Enter" && jump(event.shiftKey ? -1 : 1)}
  />
  {#if needle}
    <span class="soft">{hits.length ? `${at + 1} of ${hits.length}` : "none"}</span>
    <button onclick={() => jump(-1)} aria-label="Match before">↑</button>
    <button onclick={() => jump(1)} aria-label="Next match">↓</button>
  {/if}
  <span class="push"></span>
  <button onclick={nextClock} title="Times: 24 h, 12 h or none">{clock === "off" ? "No times" : clock}</button
  >
  <button onclick={toggleWrap} aria-pressed={wrap}>{wrap ? "Wrapped" : "One line"}</button>
  <button onclick={() => void navigator.clipboard.writeText(plain())}>Copy</button>
  <a href={download} download={`${container.host}-${container.name}.log`}>Download</a>
</div>
<div class="log mono" class:wrap bind:this={frame} onscroll={scrolled} data-test="log" role="log">
  {#if left > 0}
    <p class="note">{left} earlier lines have left the view; they are in the download.</p>
  {/if}
  {#each blocks as block (block.id)}
    <LogBlock id={block.id} lines={block.lines} {clock} {needle} current={hits[at] ?? ""} />
  {:else}
    {#if ended === ""}
      <p class="note">The container has written nothing.</p>
    {:else if ended === null}
      <p class="note">Nothing yet. New lines appear here by themselves.</p>
    {/if}
  {/each}
  {#if ended}
    <p class="note bad">The log broke off: {ended}. It goes on by itself.</p>
  {:else if ended === "" && blocks.length > 0}
    <p class="note">The end: the container does not run.</p>
  {/if}
</div>
{#if !stick && !paused}
  <button class="down" onclick={() => ((stick = true), later())}>To the newest line ↓</button>
{/if}

<style>
  .tools {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
    align-items: center;
    padding: 0.4rem 0.75rem;
    border-bottom: 1px solid var(--line);
    font-size: 0.8125rem;
  }
  .tools button,
  .tools a {
    border: 1px solid var(--line);
    background: var(--cds-ui-background);
    color: var(--cds-text-01);
    font: inherit;
    padding: 0.15rem 0.5rem;
    cursor: pointer;
    text-decoration: none;
  }
  .tools .main {
    min-width: 4.5rem;
  }
  .tools .paused {
    background: #e0b84c;
    color: #1b1b16;
    font-weight: 600;
  }
  .tools input {
    width: 9rem;
    height: 1.6rem;
    padding: 0 0.5rem;
    border: 1px solid var(--line);
    background: var(--cds-field-01);
    color: inherit;
    font: inherit;
  }
  .push {
    flex: 1;
  }
  .log {
    flex: 1;
    min-height: 0;
    overflow: auto;
    padding: 0.4rem 0;
    background: var(--cds-ui-background);
    font-size: 0.75rem;
    line-height: 1.5;
  }
  .note {
    padding: 0.4rem 0.75rem;
    color: var(--cds-text-02);
    font-size: 0.75rem;
  }
  .bad {
    color: var(--state-failed);
  }
  .down {
    border: 0;
    border-top: 1px solid var(--line);
    background: var(--cds-hover-ui);
    color: var(--cds-text-01);
    font: inherit;
    font-size: 0.8125rem;
    padding: 0.35rem;
    cursor: pointer;
  }
</style>
