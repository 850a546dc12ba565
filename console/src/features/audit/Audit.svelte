<!-- Who did what: the audit log, searched and exported. -->
<script lang="ts">
  import {
    Button,
    InlineNotification,
    Search,
    StructuredList,
    StructuredListBody,
    StructuredListCell,
    StructuredListHead,
    StructuredListRow,
    TextInput,
  } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { asked } from "../../lib/listQuery";
  import { age, moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import type { AuditEntry } from "../../lib/types";
  import { isBad } from "./audit";

  const PAGE = 100;

  let entries = $state.raw<AuditEntry[]>([]);
  let wrong = $state("");
  let isWhole = $state(false);
  let busy = $state(false);

  // What is searched for is in the address: a link shows another the same.
  const wish = $derived({
    text: place.query.get("text") ?? "",
    member: place.query.get("member") ?? "",
    action: place.query.get("action") ?? "",
    since: place.query.get("since") ?? "",
  });

  let round = 0;
  async function load(before?: number) {
    const own = ++round;
    busy = true;
    try {
      const more = await call<AuditEntry[]>("GET", `/api/v1/audit?${asked(wish, { before, limit: PAGE })}`);
      // An answer that a later question has overtaken.
      if (own !== round) return;
      entries = before === undefined ? more : [...entries, ...more];
      isWhole = more.length < PAGE;
      wrong = "";
    } catch (error) {
      if (own === round) wrong = sentence(error);
    } finally {
      if (own === round) busy = false;
    }
  }

  $effect(() => {
    void wish;
    void load();
  });

  function set(name: string, value: string) {
    query({ [name]: value.trim() || null }, true);
  }
</script>

<h1>Audit log</h1>
<div class="filters">
  <div class="text">
    <Search
      size="sm"
      labelText="Object, outcome or address"
      placeholder="Object, outcome or address"
      value={wish.text}
      on:change={(event) => set("text", (event.target as HTMLInputElement).value)}
      on:clear={() => set("text", "")}
    />
  </div>
  <TextInput
    id="audit-member"
    size="sm"
    labelText="Member"
    value={wish.member}
    on:change={(event) => set("member", String(event.detail ?? ""))}
  />
  <TextInput
    id="audit-action"
    size="sm"
    labelText="Action"
    placeholder="sign-in, restart, …"
    value={wish.action}
    on:change={(event) => set("action", String(event.detail ?? ""))}
  />
  <TextInput
    id="audit-since"
    size="sm"
    labelText="Since"
    placeholder="24h, or a day"
    value={wish.since}
    on:change={(event) => set("since", String(event.detail ?? ""))}
  />
  <a href={`/api/v1/audit/export?${asked(wish, {})}`} download="audit.jsonl">Export as JSON lines</a>
</div>
{#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="wide" tabindex="0" role="region" aria-label="Entries">
  <StructuredList condensed>
    <StructuredListHead>
      <StructuredListRow head>
        <StructuredListCell head>Time</StructuredListCell>
        <StructuredListCell head>Member</StructuredListCell>
        <StructuredListCell head>Action</StructuredListCell>
        <StructuredListCell head>Object</StructuredListCell>
        <StructuredListCell head>Outcome</StructuredListCell>
        <StructuredListCell head>From</StructuredListCell>
      </StructuredListRow>
    </StructuredListHead>
    <StructuredListBody>
      {#each entries as entry (entry.id)}
        <StructuredListRow>
          <StructuredListCell noWrap>
            <span title={moment(entry.time)}>{age(entry.time, live.now)} ago</span>
          </StructuredListCell>
          <StructuredListCell noWrap>{entry.member}</StructuredListCell>
          <StructuredListCell noWrap>{entry.action}</StructuredListCell>
          <StructuredListCell>{entry.object}</StructuredListCell>
          <StructuredListCell><span class:bad={isBad(entry)}>{entry.outcome}</span></StructuredListCell>
          <StructuredListCell
            >{entry.address}
            <div class="soft">{entry.via}</div></StructuredListCell
          >
        </StructuredListRow>
      {/each}
    </StructuredListBody>
  </StructuredList>
</div>
{#if entries.length === 0 && !busy && !wrong}<p class="soft">No matching entries.</p>{/if}
{#if !isWhole && entries.length > 0}
  <Button size="small" kind="tertiary" disabled={busy} on:click={() => void load(entries.at(-1)?.id)}
    >Older</Button
  >
{/if}

<style>
  .filters {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(9rem, 1fr));
    gap: 0.75rem;
    align-items: end;
    margin: 0.75rem 0;
    max-width: 70rem;
  }
  .text {
    grid-column: span 2;
    min-width: 0;
  }
  .wide {
    overflow-x: auto;
  }
  .bad {
    color: var(--state-failed);
  }
</style>
