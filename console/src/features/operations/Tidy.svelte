<!-- What nothing uses: why, since when, how large, by whom it was used last; what is safe to let go is chosen already. -->
<script lang="ts">
  import { Button, Select, SelectItem } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, bytes, imageParts } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { go, place, query } from "../../lib/router.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { ObjectKind, Preview, TidyPiece } from "../../lib/types";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";

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
    ["untagged-image", "Untagged images"],
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
  /** An image and a volume may have the same id: a row is known by its kind too. */
  const items = $derived(rows.map((s) => ({ ...s, row: s, id: `${s.object}/${s.id}` })));
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

  function choose(s: Suggestion, on: boolean, range: Suggestion[]) {
    const next = new Map(picks);
    for (const one of range) next.set(key(one), true);
    if (range.length === 0) next.set(key(s), on);
    picks = next;
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
      title: `Remove ${chosen.length} ${chosen.length === 1 ? "leftover" : "leftovers"}`,
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

  type Row = (typeof items)[number];

  const COLUMNS: Column<Row>[] = [
    {
      key: "name",
      title: "Name",
      width: "minmax(9rem, 1.6fr)",
      card: "title",
      mono: true,
      text: (s) => s.name,
    },
    {
      key: "kind",
      title: "Kind",
      width: "8rem",
      from: 900,
      soft: true,
      text: (s) => (s.leftover === "untagged-image" ? "untagged image" : words[s.object]),
    },
    { key: "host", title: "Host", width: "6.5rem", from: 620, text: (s) => s.host },
    {
      key: "grade",
      title: "Risk",
      width: "6.5rem",
      text: (s) => (s.protected ? "kept" : s.grade === "safe" ? "safe" : "look first"),
    },
    {
      key: "size",
      title: "Size",
      width: "5.5rem",
      card: "side",
      text: (s) => (s.size === undefined ? "unknown" : bytes(s.size)),
    },
    {
      key: "since",
      title: "Unused since",
      width: "7rem",
      from: 980,
      soft: true,
      text: (s) => (s.since ? `${age(s.since, live.now)} ago` : ""),
    },
    {
      key: "reason",
      title: "Reason",
      width: "minmax(10rem, 2.4fr)",
      card: "below",
      from: 880,
      text: (s) =>
        [
          s.protected ? `It is ${s.protected}.` : s.reason,
          s.last_user ? `Last used by ${s.last_user}.` : "",
          s.stack ? `Stack ${s.stack}.` : "",
        ]
          .filter(Boolean)
          .join(" "),
    },
    { key: "keep", title: "Keep", width: "4.5rem", from: 700, text: () => "" },
  ];
</script>

<ListBar title="Tidy" placeholder="Filter by name, host, stack or last user" label="Filter leftovers">
  <Select
    inline
    size="sm"
    hideLabel
    labelText="Kind of leftover"
    selected={kind}
    on:change={(event) => query({ kind: (event.target as HTMLSelectElement).value || null }, true)}
  >
    <SelectItem value="" text={`All kinds (${list.rows.length})`} />
    {#each KINDS.filter(([word]) => count(word) > 0) as [word, title] (word)}
      <SelectItem value={word} text={`${title} (${count(word)})`} />
    {/each}
  </Select>
</ListBar>
{#if list.wrong || wrong}<p class="empty">{wrong || list.wrong}</p>{/if}
{#if rows.length === 0}
  <p class="empty">{list.fetching ? "Loading…" : "Nothing unused was found."}</p>
{:else}
  <RowList
    name="leftovers"
    {items}
    columns={COLUMNS}
    test="leftover"
    chosen={(s) => isChosen(s.row)}
    choosable={(s) => !s.protected}
    chooseWord={(s) => `Choose ${s.name}`}
    onchoose={(s, on, range) =>
      choose(
        s.row,
        on,
        range.map((one) => one.row),
      )}
    onchooseall={chooseAll}
    dim={(s) => !!s.protected}
    onopen={(s) => show(s.row)}
  >
    {#snippet cell(s: Row, column: string, text: string)}
      {#if column === "name" && s.object === "image" && s.name.includes("/")}
        {@const name = imageParts(s.name)}{name.rest} <span class="soft">{name.registry}</span>
      {:else if column === "grade"}<span class={s.protected ? "soft" : s.grade}
          >{s.protected ? "◇" : s.grade === "safe" ? "●" : "▲"} {text}</span
        >
      {:else if column === "keep"}
        {#if s.protected?.startsWith("kept by ") && !s.protected.startsWith("kept by its label")}
          <InlineAction onclick={() => void keep(s.row, false, "")}>Do not keep</InlineAction>
        {:else if !s.protected && s.object !== "cache"}
          <InlineAction onclick={() => (keeping = s.row)}>Keep…</InlineAction>
        {/if}
      {:else}{text}{/if}
    {/snippet}
  </RowList>
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
    <TextField
      name="Reason for keeping it"
      placeholder="the winter's readings"
      maxlength={200}
      value={why}
      onchange={(text) => (why = text ?? "")}
    />
    <Button size="small" type="submit">Keep {keeping.object}</Button>
    <InlineAction onclick={() => (keeping = null)}>Cancel</InlineAction>
  </form>
{:else}
  <div class="chosen" data-test="chosen">
    <strong>{chosen.length} selected</strong>
    <span class="soft" data-test="frees">{sum === null ? "" : `frees ${bytes(sum)}`}</span>
    <Button size="small" disabled={chosen.length === 0} on:click={ask}>Remove…</Button>
  </div>
{/if}

<style>
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
  .chosen {
    --text-width: 22rem;
  }
</style>
