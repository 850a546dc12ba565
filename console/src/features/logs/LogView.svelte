<!--
  Logs of one or many containers, merged by time: follow with pause, filter by pattern and level, jump to
  a time, search back through all that is held, fold JSON out, copy, link to a line, download. A pause
  loses nothing: lines then wait at the engines. The view keeps the last lines; the download has all.
-->
<script lang="ts">
  import { copyText } from "carbon-components-svelte/src/utils/copyText.js";
  import { tick } from "svelte";
  import { pieces } from "./colour";
  import { lineTime, moment, type Clock } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import { screen } from "../../lib/screen.svelte";
  import type { Level, LogRequest, SourcedLine } from "../../lib/types";
  import LogBlock from "./LogBlock.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";

  let {
    references = [],
    stack = "",
    label = "",
  }: { references?: string[]; stack?: string; label?: string } = $props();

  /** Lines of one block: a block that is full never changes again. */
  const BLOCK = 200;
  /** The view holds so many lines; older ones leave it. */
  const HELD = 10_000;
  const AT_FIRST = 500;
  const CLOCKS: Clock[] = ["24h", "12h", "off"];
  const LEVELS: Level[] = ["debug", "info", "warning", "error", "fatal"];
  /** A minimum level in words, such as "Warning and above". */
  const levelAndAbove = (name: string) => `${name[0]?.toUpperCase()}${name.slice(1)} and above`;

  interface Block {
    id: number;
    lines: SourcedLine[];
  }

  let blocks = $state.raw<Block[]>([]);
  let notes = $state.raw<string[]>([]);
  let paused = $state(false);
  let waiting = $state(0);
  let ended = $state<string | null>(null);
  let refused = $state("");
  let left = $state(0);
  let reached = $state("");
  let found = $state(0);
  let clock = $state<Clock>((localStorage.getItem("gubernum.clock") as Clock | null) ?? "24h");
  let wrap = $state(localStorage.getItem("gubernum.wrap") !== "no");
  let stick = $state(true);
  let at = $state(0);
  /** On a phone only what is needed most is above the lines. */
  let tooling = $state(false);
  let frame: HTMLDivElement | undefined = $state();

  // What is wanted lives in the address, so that a link shows the same.
  const wanted = $derived(place.query.get("with") ?? "");
  const unwanted = $derived(place.query.get("without") ?? "");
  const level = $derived((place.query.get("level") as Level | null) ?? "");
  const since = $derived(place.query.get("since") ?? "");
  const until = $derived(place.query.get("until") ?? "");
  const only = $derived((place.query.get("only") as "stdout" | "stderr" | null) ?? "");
  const plain = $derived(place.query.get("plain") === "1");
  const line = $derived(place.query.get("line") ?? "");
  const filtered = $derived(!!(wanted || unwanted || level));
  /** A bounded look at the past is read to its end and not followed. */
  const following = $derived(!until);
  const many = $derived(
    references.length !== 1 || !!stack || !!label || references.some((r) => r.includes("*")),
  );

  // What is being typed; the address leads, so a link or going back changes it too.
  let draftWith = $derived(wanted);
  let draftWithout = $derived(unwanted);
  let draftSince = $derived(since);
  let draftUntil = $derived(until);

  const wish = $derived.by((): LogRequest => {
    const w: LogRequest = { references, follow: following };
    if (stack) w.stack = stack;
    if (label) w.label = label;
    if (wanted) w.with = [wanted];
    if (unwanted) w.without = [unwanted];
    if (plain) w.plain = true;
    w.ignore_case = true;
    if (level) w.level = level;
    if (only) w.only = only;
    if (since) w.since = since;
    if (until) w.until = until;
    if (line) {
      // A link to a line shows what is around it.
      const time = Date.parse(line);
      w.since = new Date(time - 60_000).toISOString();
    } else if (!since && !until) w.tail = AT_FIRST;
    return w;
  });
  const wishKey = $derived(JSON.stringify(wish));

  let subscription = 0;
  let arrived: SourcedLine[] = [];
  let owed = 0;
  let drawing = false;
  let nextBlock = 0;
  let jumped = false;

  function begin(asked: LogRequest) {
    [blocks, notes, ended, refused, left, reached, found] = [[], [], null, "", 0, "", 0];
    [arrived, owed, waiting, nextBlock, jumped] = [[], 0, 0, 0, false];
    subscription = live.log(asked, {
      lines(lines, bytes) {
        for (const one of lines) arrived.push(one);
        owed += bytes;
        if (paused) waiting += lines.length;
        else later();
      },
      note(source, text) {
        if (notes.length < 20) notes = [...notes, `${source}: ${text}`];
      },
      reached(time) {
        reached = time;
      },
      ended(problem) {
        if (problem && problem.status >= 400 && problem.status < 500) refused = problem.detail;
        else ended = problem ? problem.detail : "";
        later();
      },
    });
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
    if (line && !jumped && blocks.length > 0) {
      const here = blocks
        .flatMap((b) => b.lines.map((l, i) => ({ l, id: `${b.id}-${i}` })))
        .find((x) => x.l.time === line);
      if (here) {
        [jumped, stick] = [true, false];
        await tick();
        document.getElementById(`line-${here.id}`)?.scrollIntoView({ block: "center" });
      }
    } else if (stick) {
      await tick();
      if (frame) frame.scrollTop = frame.scrollHeight;
    }
  }

  function add(lines: SourcedLine[]) {
    const next = [...blocks];
    found += lines.length;
    // Nothing is shown from after the time up to which it says that it has looked.
    const newest = lines.at(-1)?.time;
    if (reached && newest && Date.parse(newest) > Date.parse(reached)) reached = newest;
    let from = 0;
    while (from < lines.length) {
      const open = next.at(-1);
      const room = open ? BLOCK - open.lines.length : 0;
      if (open && room > 0) {
        next[next.length - 1] = { id: open.id, lines: [...open.lines, ...lines.slice(from, from + room)] };
        from += room;
      } else {
        next.push({ id: nextBlock++, lines: lines.slice(from, from + BLOCK) });
        from += BLOCK;
      }
    }
    while (next.length * BLOCK > HELD + BLOCK) left += next.shift()?.lines.length ?? 0;
    blocks = next;
  }

  $effect(() => {
    const asked = JSON.parse(wishKey) as LogRequest;
    begin(asked);
    return () => live.endLog(subscription);
  });

  // A connection that came back starts afresh.
  $effect(() => {
    if (ended && live.status === "on" && following) {
      const timer = setTimeout(() => begin(JSON.parse(wishKey) as LogRequest), 1000);
      return () => clearTimeout(timer);
    }
  });

  function apply() {
    query(
      {
        with: draftWith,
        without: draftWithout,
        since: draftSince.trim(),
        until: draftUntil.trim(),
        line: null,
      },
      true,
    );
    stick = true;
  }

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

  const hits = $derived.by(() => {
    if (!wanted) return [];
    const all: string[] = [];
    for (const block of blocks)
      block.lines.forEach((l, i) => l.matches?.length && all.push(`${block.id}-${i}`));
    return all;
  });

  function jump(by: number) {
    if (hits.length === 0) return;
    at = (at + by + hits.length) % hits.length;
    stick = false;
    document.getElementById(`line-${hits[at]}`)?.scrollIntoView({ block: "center" });
  }

  let copied = $state("");

  async function copy() {
    try {
      await copyText(text());
      copied = "Copied";
    } catch {
      copied = "The browser does not let it be copied";
    }
    setTimeout(() => (copied = ""), 2000);
  }

  function text(): string {
    return blocks
      .flatMap((b) => b.lines)
      .map((l) => {
        const words = pieces(l.text)
          .map((p) => p.text)
          .join("");
        return [lineTime(l.time, clock), many ? `${l.source} |` : "", words].filter(Boolean).join(" ");
      })
      .join("\n");
  }

  function nextClock() {
    clock = CLOCKS[(CLOCKS.indexOf(clock) + 1) % CLOCKS.length] ?? "24h";
    localStorage.setItem("gubernum.clock", clock);
  }

  function toggleWrap() {
    wrap = !wrap;
    localStorage.setItem("gubernum.wrap", wrap ? "yes" : "no");
  }

  function download(form: "text" | "json"): string {
    const p = new URLSearchParams();
    for (const r of references) p.append("reference", r);
    const fields: Record<string, string> = {
      stack,
      label,
      with: wanted,
      without: unwanted,
      level,
      only,
      since,
      until,
    };
    for (const [name, value] of Object.entries(fields)) if (value) p.set(name, value);
    if (filtered) p.set("ignore_case", "true");
    if (plain) p.set("plain", "true");
    p.set("format", form);
    p.set("times", "true");
    p.set("compress", "gzip");
    return `/api/v1/logs?${p}`;
  }
</script>

<div class="tools">
  <ToolButton class="main" onclick={togglePause} pressed={paused} data-test="pause">
    {paused ? `Resume${waiting ? ` (${waiting} waiting)` : ""}` : "Pause"}
  </ToolButton>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      apply();
    }}
  >
    <TextField
      placeholder="Find: text or pattern"
      name="Lines with"
      value={draftWith}
      onchange={(text) => (draftWith = text ?? "")}
      data-test="with"
    />
    {#if !screen.isPhone || tooling}
      <TextField
        placeholder="Exclude"
        name="Lines without"
        value={draftWithout}
        onchange={(text) => (draftWithout = text ?? "")}
      />
      <TextField
        placeholder="From: 1h, 2026-11-23"
        name="From"
        value={draftSince}
        onchange={(text) => (draftSince = text ?? "")}
      />
      <TextField
        placeholder="To"
        name="To"
        value={draftUntil}
        onchange={(text) => (draftUntil = text ?? "")}
      />
    {/if}
    <ToolButton type="submit">Search</ToolButton>
  </form>
  {#if screen.isPhone}
    <ToolButton pressed={tooling} aria-expanded={tooling} onclick={() => (tooling = !tooling)}
      >More</ToolButton
    >
  {/if}
  {#if !screen.isPhone || tooling}
    <SelectField
      name="Minimum level"
      value={level}
      options={[["", "Any level"], ...LEVELS.map((name): [string, string] => [name, levelAndAbove(name)])]}
      onchange={(next) => query({ level: next || null }, true)}
    />
    <SelectField
      name="Stream"
      value={only}
      options={[
        ["", "Both streams"],
        ["stdout", "stdout"],
        ["stderr", "stderr"],
      ]}
      onchange={(next) => query({ only: next || null }, true)}
    />
    <ToolButton
      pressed={!plain}
      onclick={() => query({ plain: plain ? null : "1" }, true)}
      title="Search by pattern or by plain text"
    >
      {plain ? "Plain text" : "Pattern .*"}
    </ToolButton>
    {#if hits.length > 0}
      <ToolButton onclick={() => jump(-1)} aria-label="Previous match">↑</ToolButton>
      <span class="soft">{at + 1} of {hits.length}</span>
      <ToolButton onclick={() => jump(1)} aria-label="Next match">↓</ToolButton>
    {/if}
    <span class="push"></span>
    <ToolButton onclick={nextClock} title="Times: 24 h, 12 h or none"
      >{clock === "off" ? "No times" : clock}</ToolButton
    >
    <ToolButton onclick={toggleWrap} pressed={wrap}>{wrap ? "Wrap" : "No wrap"}</ToolButton>
    <ToolButton onclick={() => void copy()}>{copied || "Copy"}</ToolButton>
    <a href={download("text")} download="logs.txt.gz">Text</a>
    <a href={download("json")} download="logs.jsonl.gz">JSON lines</a>
  {/if}
</div>
{#if filtered && ended === null && !refused}
  <div class="progress" data-test="progress">
    {found === 1 ? "1 match" : `${found} matches`}{reached
      ? `; searched up to ${moment(reached)}`
      : ""}{following && !reached ? "; following new lines" : ""}
    <InlineAction onclick={() => query({ with: null, without: null, level: null }, true)}
      >Clear search</InlineAction
    >
  </div>
{/if}
<div class="log mono" class:wrap bind:this={frame} onscroll={scrolled} data-test="log" role="log">
  {#if refused}<p class="note bad" data-test="refused">{refused}</p>{/if}
  {#each notes as note, i (i)}<p class="note bad">{note}</p>{/each}
  {#if left > 0}
    <p class="note">{left} earlier lines are no longer shown; the download has them.</p>
  {/if}
  {#each blocks as block (block.id)}
    <LogBlock id={block.id} lines={block.lines} {clock} {many} current={hits[at] ?? ""} linked={line} />
  {:else}
    {#if ended === ""}
      <p class="note">{filtered ? "No matching lines." : "No log lines yet."}</p>
    {:else if ended === null && !refused}
      <p class="note">No lines yet. New lines appear here automatically.</p>
    {/if}
  {/each}
  {#if ended}
    <p class="note bad">Stream interrupted: {ended}. Reconnecting…</p>
  {:else if ended === "" && blocks.length > 0}
    <p class="note">End of log</p>
  {/if}
</div>
{#if !stick && !paused}
  <ToolButton onclick={() => ((stick = true), later())}>Newest line ↓</ToolButton>
{/if}

<style>
  form {
    display: contents;
  }
  .tools {
    --text-width: 10rem;
    --pick-width: 9rem;
    padding: 0.4rem 0.75rem;
    border-bottom: 1px solid var(--line);
  }
  .progress {
    padding: 0.3rem 0.75rem;
    font-size: 0.8125rem;
    border-bottom: 1px solid var(--line);
    background: var(--panel);
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
</style>
