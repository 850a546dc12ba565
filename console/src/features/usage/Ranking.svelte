<!-- Who used most of a figure in a time: the mean, the peak and when it was; those that are gone too, as long as their history is kept. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { bytes, moment, processors, rate } from "../../lib/format";
  import { place, query } from "../../lib/router.svelte";
  import type { Ranking } from "../../lib/types";
  import SelectField from "../../ui/form/SelectField.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import type { Column } from "../../ui/list/columns";
  import RowList from "../../ui/list/RowList.svelte";
  import { inspect } from "../fleet/inspect";

  const FIGURES: [string, string][] = [
    ["memory", "Memory"],
    ["processors", "Processor"],
    ["network-in", "Network in"],
    ["network-out", "Network out"],
    ["disk-read", "Disk read"],
    ["disk-write", "Disk written"],
  ];
  const RANGES: [string, string][] = [
    ["1h", "Last hour"],
    ["24h", "Last 24 hours"],
    ["7d", "Last 7 days"],
    ["30d", "Last 30 days"],
    ["", "From and to…"],
  ];

  const figure = $derived(place.query.get("figure") ?? "memory");
  const since = $derived(place.query.get("since") ?? "7d");
  const until = $derived(place.query.get("until") ?? "");
  const typed = $derived(place.query.get("find") ?? "");
  const isOwn = $derived(until !== "" || !RANGES.some(([range]) => range === since && range !== ""));
  const write = $derived(figure === "processors" ? processors : figure === "memory" ? bytes : rate);

  let found = $state.raw<Ranking | null>(null);
  let wrong = $state("");
  let asked = 0;

  $effect(() => {
    const mine = ++asked;
    const fields = new URLSearchParams({ figure, since, limit: "1000" });
    if (until) fields.set("until", until);
    call<Ranking>("GET", `/api/v1/usage-ranking?${fields}`)
      .then((next) => {
        if (mine === asked) [found, wrong] = [next, ""];
      })
      .catch((error: unknown) => {
        if (mine === asked) wrong = sentence(error);
      });
  });

  type Row = Ranking["rows"][number] & { id: string; place: number };
  const rows = $derived<Row[]>(
    (found?.rows ?? [])
      .map((row, n) => ({ ...row, id: row.name, place: n + 1 }))
      .filter((row) =>
        `${row.host}/${row.name} ${row.stack ?? ""}`.toLowerCase().includes(typed.toLowerCase()),
      ),
  );

  const COLUMNS: Column<Row>[] = [
    { key: "place", title: "#", width: "3rem", soft: true, text: (r) => String(r.place) },
    { key: "name", title: "Container", width: "minmax(9rem, 2fr)", card: "title", text: (r) => r.name },
    { key: "mean", title: "Mean", width: "7rem", card: "side", text: (r) => write(r.mean) },
    { key: "peak", title: "Peak", width: "7rem", text: (r) => write(r.peak) },
    {
      key: "at",
      title: "Peak at",
      width: "minmax(9rem, 1fr)",
      card: "below",
      text: (r) => moment(r.peak_at),
    },
    { key: "stack", title: "Stack", width: "8rem", from: 960, soft: true, text: (r) => r.stack ?? "" },
  ];
</script>

<div class="tools bar">
  <SelectField
    name="Figure"
    value={figure}
    options={FIGURES}
    onchange={(next) => query({ figure: next }, true)}
  />
  <SelectField
    name="Time"
    value={isOwn ? "" : since}
    options={RANGES}
    onchange={(next) => query({ since: next || "2d", until: next ? null : "now" }, true)}
  />
  {#if isOwn}
    <TextField
      name="From"
      placeholder="From: 2d, or 2026-11-23"
      value={since}
      atEnd
      onchange={(next) => query({ since: next ?? null }, true)}
    />
    <TextField
      name="To"
      placeholder="To: now, or 2026-11-25"
      value={until}
      atEnd
      onchange={(next) => query({ until: next ?? null }, true)}
    />
  {/if}
  <span class="soft">{found ? `${found.containers} containers, removed ones included` : ""}</span>
</div>
{#if wrong}<p class="empty">{wrong}</p>{/if}
{#if found && rows.length === 0}
  <p class="empty">No data for this period.</p>
{:else if found}
  <RowList
    name="ranking"
    items={rows}
    columns={COLUMNS}
    test="ranked"
    dim={(r) => !r.is_there}
    onopen={(r) => inspect("container", `${r.host}/${r.name}`, "use")}
  >
    {#snippet cell(r: Row, key: string, text: string)}
      {#if key === "name"}<strong>{text}</strong>
        <span class="soft">{r.host}{r.is_there ? "" : ", removed"}</span>
      {:else}{text}{/if}
    {/snippet}
  </RowList>
{:else if !wrong}
  <p class="empty">Loading…</p>
{/if}
