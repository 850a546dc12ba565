<!-- What nothing uses: why, since when, how large, by whom it was used last; what is safe to let go is chosen already. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, bytes, imageParts } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { go, place, query } from "../../lib/router.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { ObjectKind, Preview, TidyPiece } from "../../lib/types";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  interface Suggestion extends TidyPiece {
    name: string;
    leftover: string;
    grade: "safe" | "look-first";
    reason: string;
    since?: string;
    size?: number;
    last_user?: string;
    stack?: string;
    protected?: string;
  }

  const KINDS: [string, string][] = [
    ["stopped-container", "Stopped containers"],
    ["unused-image", "Unused images"],
    ["untagged-image", "Untagged leftovers"],
    ["anonymous-volume", "Anonymous volumes"],
    ["named-volume", "Named volumes"],
    ["unused-network", "Unused networks"],
    ["build-cache", "Build cache"],
  ];

  const list = new Listing<Suggestion>("/api/v1/leftovers");
  $effect(() => {
    void live.assetsStamp;
    void live.containers;
    list.soon();
  });

  const kind = $derived(place.query.get("kind") ?? "");
  const typed = $derived(place.query.get("find") ?? "");
  const key = (s: TidyPiece) => `${s.host}/${s.object}/${s.id}`;

  /** What was chosen by hand; everything else is chosen when it is safe. */
  let picks = $state.raw(new Map<string, boolean>());
  let keeping = $state.raw<Suggestion | null>(null);
  let why = $state("");
  let wrong = $state("");

  const isChosen = (s: Suggestion) => !s.protected && (picks.get(key(s)) ?? s.grade === "safe");
  const rows = $derived(
    list.rows.filter(
      (s) =>
        (kind === "" || s.leftover === kind) &&
        [s.name, s.host, s.id, s.stack ?? "", s.last_user ?? ""].some((t) =>
          t.toLowerCase().includes(typed.toLowerCase()),
        ),
    ),
  );
  const items = $derived(rows.map((s) => ({ ...s, key: key(s) })));
  const chosen = $derived(rows.filter(isChosen));
  const count = (of: string) => list.rows.filter((s) => s.leftover === of).length;
  const pieces = $derived(chosen.map(({ host, object, id }) => ({ host, object, id })));

  /** What the chosen ones free together: images share layers, so the service works it out. */
  let sum = $state<number | null>(0);
  $effect(() => {
    const asked = pieces;
    if (asked.length === 0) {
      sum = 0;
      return;
    }
    const timer = setTimeout(() => {
      call<Preview>("POST", "/api/v1/operations/preview", { kind: "tidy", targets: [], pieces: asked })
        .then((preview) => {
          if (asked !== pieces) return;
          const taken = preview.targets.filter((t) => !t.refused);
          sum = taken.reduce((all, t) => all + (t.bytes ?? 0), 0);
        })
        .catch(() => (sum = null));
    }, 250);
    return () => clearTimeout(timer);
  });

  function choose(s: Suggestion, on: boolean) {
    picks = new Map(picks).set(key(s), on);
  }

  function chooseAll(on: boolean) {
    const next = new Map(picks);
    for (const s of rows) if (!s.protected) next.set(key(s), on);
    picks = next;
  }

  function ask() {
    pending.wish = {
      kind: "tidy",
      containers: [],
      title: `Take ${chosen.length} ${chosen.length === 1 ? "thing" : "things"} away`,
      request: {
        kind: "tidy",
        targets: [],
        pieces,
      },
      asked: (operation) => {
        picks = new Map();
        go(`/operations/${operation.id}`, false);
      },
    };
  }

  async function keep(s: Suggestion, on: boolean, text: string) {
    try {
      const piece = { host: s.host, object: s.object, id: s.id };
      await call("PUT", "/api/v1/leftovers/keep", { piece, keep: on, text });
      [keeping, why, wrong] = [null, "", ""];
      await list.fetch();
    } catch (error) {
      wrong = sentence(error);
    }
  }

  function show(s: Suggestion) {
    if (s.object === "container") query({ inspect: `${s.host}/${s.name}` });
    else if (s.object === "image") inspect("image", s.id);
    else if (s.object === "volume") inspect("volume", `${s.host}/${s.id}`);
    else if (s.object === "network") inspect("network", `${s.host}/${s.id}`);
  }
  const words: Record<ObjectKind, string> = {
    container: "container",
    image: "image",
    volume: "volume",
    network: "network",
    cache: "build cache",
  };
</script>

<div class="tools bar">
  <h1>Tidy</h1>
  <input
    class="filter"
    id="filter"
    placeholder="Filter by name, host, stack or last user"
    aria-label="Filter leftovers"
    value={typed}
    oninput={(e) => query({ find: e.currentTarget.value }, true)}
  />
  <button aria-pressed={kind === ""} onclick={() => query({ kind: null }, true)}
    >All {list.rows.length}</button
  >
  {#each KINDS as [word, title] (word)}
    {#if count(word) > 0}
      <button aria-pressed={kind === word} onclick={() => query({ kind: word }, true)}
        >{title} {count(word)}</button
      >
    {/if}
  {/each}
</div>
{#if list.wrong || wrong}<p class="empty">{wrong || list.wrong}</p>{/if}
<div class="columns tidy" role="row">
  <input
    type="checkbox"
    aria-label="Choose all that are listed"
    checked={chosen.length > 0}
    indeterminate={chosen.length > 0 && chosen.length < rows.filter((s) => !s.protected).length}
    onchange={(e) => chooseAll(e.currentTarget.checked)}
  />
  <span>Name</span><span>What</span><span>Host</span><span>Grade</span><span>Size</span><span>Unused for</span
  ><span>Why, and what would be lost</span><span></span>
</div>
{#if rows.length === 0}
  <p class="empty">{list.fetching ? "Fetching…" : "Nothing is left over."}</p>
{:else}
  <VirtualRows {items} height={36}>
    {#snippet row(s: Suggestion & { key: string })}
      <div
        class="line tidy"
        role="row"
        tabindex="-1"
        class:kept={s.protected}
        onclick={() => show(s)}
        onkeydown={(e) => e.key === "Enter" && show(s)}
        data-test="leftover"
      >
        <input
          type="checkbox"
          aria-label={`Choose ${s.name}`}
          disabled={!!s.protected}
          checked={isChosen(s)}
          onclick={(e) => e.stopPropagation()}
          onchange={(e) => choose(s, e.currentTarget.checked)}
        />
        <span class="mono" title={s.name}
          >{#if s.object === "image" && s.name.includes("/")}{@const name = imageParts(s.name)}{name.rest}
            <span class="soft">{name.registry}</span>{:else}{s.name}{/if}</span
        >
        <span class="soft">{s.leftover === "untagged-image" ? "untagged image" : words[s.object]}</span>
        <span>{s.host}</span>
        <span class={s.protected ? "soft" : s.grade}
          >{s.protected ? "◇ kept" : s.grade === "safe" ? "● safe" : "▲ look first"}</span
        >
        <span>{s.size === undefined ? "unknown" : bytes(s.size)}</span>
        <span class="soft">{s.since ? age(s.since, live.now) : ""}</span>
        <span title={s.protected ?? s.reason}
          >{s.protected ? `It is ${s.protected}.` : s.reason}{s.last_user
            ? ` Used last by ${s.last_user}.`
            : ""}{s.stack ? ` Stack ${s.stack}.` : ""}</span
        >
        <span>
          {#if s.protected?.startsWith("kept by ") && !s.protected.startsWith("kept by its label")}
            <button
              class="link"
              onclick={(e) => {
                e.stopPropagation();
                void keep(s, false, "");
              }}>Let go</button
            >
          {:else if !s.protected && s.object !== "cache"}
            <button
              class="link"
              onclick={(e) => {
                e.stopPropagation();
                keeping = s;
              }}>Keep…</button
            >
          {/if}
        </span>
      </div>
    {/snippet}
  </VirtualRows>
{/if}
{#if keeping}
  {@const it = keeping}
  <form
    class="chosen"
    onsubmit={(e) => {
      e.preventDefault();
      void keep(it, true, why);
    }}
  >
    <span>Keep <strong>{keeping.name}</strong> on {keeping.host}, because</span>
    <input aria-label="Why it is kept" placeholder="the winter's readings" maxlength="200" bind:value={why} />
    <Button size="small" type="submit">Keep it</Button>
    <button type="button" class="link" onclick={() => (keeping = null)}>Cancel</button>
  </form>
{:else}
  <div class="chosen" data-test="chosen">
    <strong>{chosen.length} chosen</strong>
    <span class="soft" data-test="frees">{sum === null ? "" : `frees ${bytes(sum)}`}</span>
    <Button size="small" disabled={chosen.length === 0} on:click={ask}>Remove…</Button>
  </div>
{/if}

<style>
  .tidy {
    grid-template-columns: 1.2rem minmax(10rem, 1.6fr) 7rem 7rem 6.5rem 5.5rem 5rem minmax(12rem, 2.4fr) 4rem;
  }
  .kept {
    color: var(--cds-text-02);
  }
  .safe {
    color: var(--state-well);
  }
  .look-first {
    color: var(--state-halted);
  }
  .chosen {
    display: flex;
    gap: 0.8rem;
    align-items: center;
    padding: 0.6rem 1rem;
    border-top: 1px solid var(--line);
    font-size: 0.875rem;
  }
  .chosen input {
    flex: 1;
    max-width: 26rem;
    height: 2rem;
    padding: 0 0.5rem;
    border: 1px solid var(--line);
    background: var(--cds-field-01);
    color: inherit;
    font: inherit;
  }
</style>
