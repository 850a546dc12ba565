<!-- The revisions of a stack: who applied which, what differs in their texts, and the way back to each. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { OperationWish, RevisionDifference, StackRevision } from "../../lib/types";
  import { editOf } from "./words";
  import InlineAction from "../../ui/InlineAction.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";

  let { host, stack, revisions }: { host: string; stack: string; revisions: StackRevision[] } = $props();

  let shown = $state<number | null>(null);
  /** Compared with this one; with the one before when null. */
  let from = $state<number | null>(null);
  let difference = $state.raw<RevisionDifference | null>(null);
  let wrong = $state("");
  const newest = $derived(revisions[0]?.number);

  $effect(() => {
    const number = shown;
    if (number === null) return;
    difference = null;
    const path = `/api/v1/stacks/${encodeURIComponent(host)}/${encodeURIComponent(stack)}/revisions/${number}/difference`;
    call<RevisionDifference>("GET", from === null ? path : `${path}?from=${from}`)
      .then((found) => {
        if (shown === number) [difference, wrong] = [found, ""];
      })
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  function back(number: number) {
    const request = { kind: "apply", targets: [host], stack, revision: number } as OperationWish;
    pending.wish = {
      kind: "apply",
      containers: [],
      request,
      title: `Roll ${stack} back to revision ${number}`,
    };
  }
</script>

{#if revisions.length === 0}
  <p class="soft">No revisions: it was not deployed from here.</p>
{:else}
  <Rows data-test="revisions">
    <thead><tr><th>Revision</th><th>Time</th><th>Member</th><th>Change</th><td></td></tr></thead>
    <tbody>
      {#each revisions as r (r.number)}
        <tr class:current={shown === r.number}>
          <td>{r.number}{r.number === newest ? " (newest)" : ""}</td>
          <td title={moment(r.created)}>{age(r.created, live.now)} ago</td>
          <td>{r.member}</td>
          <td>
            {r.comment ?? ""}
            {#if r.commit}<span class="mono soft">{r.commit.slice(0, 12)}</span>{/if}
            {#if r.operation}<a href={`/operations/${r.operation}`}>operation {r.operation}</a>{/if}
          </td>
          <td class="acts">
            <InlineAction
              onclick={() => {
                from = null;
                shown = shown === r.number ? null : r.number;
              }}>{shown === r.number ? "Hide" : "What changed"}</InlineAction
            >
            <a href={editOf(host, stack, r.number)}>Edit from here</a>
            {#if r.number !== newest}<InlineAction onclick={() => back(r.number)}>Roll back…</InlineAction
              >{/if}
          </td>
        </tr>
        {#if shown === r.number}
          <tr class="difference">
            <td colspan="5" data-test="difference">
              <div class="tools">
                <label>
                  compared with
                  <SelectField
                    name="Compared with"
                    value={String(from ?? "")}
                    options={[
                      ["", "the previous one"],
                      ...revisions
                        .filter((o) => o.number !== r.number)
                        .map((o): [string, string] => [String(o.number), `revision ${o.number}`]),
                    ]}
                    onchange={(next) => (from = next ? Number(next) : null)}
                  />
                </label>
                {#if r.number !== newest}
                  <Button size="small" kind="tertiary" on:click={() => back(r.number)}
                    >Preview the rollback…</Button
                  >
                {/if}
              </div>
              {#if wrong}<p class="wrong">{wrong}</p>{/if}
              {#if difference}
                {#each difference.values as v (v.what)}
                  <p class="value">
                    {v.what}: <del>{v.before ?? "not set"}</del> → <ins>{v.after ?? "not set"}</ins>
                  </p>
                {/each}
                {#each difference.files as f (f.file)}
                  <h3>{f.file}</h3>
                  <div class="lines mono">
                    {#each f.lines as l, n (n)}
                      <div class={l.kind}>
                        <span class="number">{l.kind === "gap" ? "" : (l.after ?? l.before)}</span><span
                          class="sign"
                          aria-label={l.kind === "added"
                            ? "added"
                            : l.kind === "removed"
                              ? "removed"
                              : undefined}
                          >{l.kind === "added"
                            ? "+"
                            : l.kind === "removed"
                              ? "−"
                              : l.kind === "gap"
                                ? "…"
                                : " "}</span
                        >{l.text}
                      </div>
                    {/each}
                  </div>
                {/each}
                {#if difference.files.length === 0 && difference.values.length === 0}
                  <p class="soft">No differences.</p>
                {/if}
              {:else if !wrong}
                <p class="soft">Comparing…</p>
              {/if}
            </td>
          </tr>
        {/if}
      {/each}
    </tbody>
  </Rows>
{/if}

<style>
  .current td {
    border-bottom: 0;
    font-weight: 600;
  }
  .difference td {
    padding-top: 0;
  }
  .acts {
    white-space: nowrap;
  }
  .acts :global(* + *) {
    margin-left: 0.8rem;
  }
  h3 {
    font-size: 0.875rem;
    font-weight: 600;
    margin: 0.8rem 0 0.3rem;
  }
  .lines {
    overflow-x: auto;
    border: 1px solid var(--line);
    font-size: 0.8125rem;
    line-height: 1.45;
  }
  .lines > div {
    white-space: pre;
    min-width: max-content;
    padding-right: 0.5rem;
  }
  .number {
    display: inline-block;
    width: 3rem;
    padding-right: 0.5rem;
    text-align: right;
    color: var(--cds-text-02);
    user-select: none;
  }
  .sign {
    display: inline-block;
    width: 1.2rem;
    user-select: none;
  }
  .added {
    background: color-mix(in srgb, var(--state-well) 16%, transparent);
  }
  .removed {
    background: color-mix(in srgb, var(--state-failed) 14%, transparent);
  }
  .gap {
    color: var(--cds-text-02);
    border-top: 1px dashed var(--line);
  }
  .value {
    margin: 0.4rem 0;
  }
  ins {
    text-decoration: none;
    font-weight: 600;
  }
  .wrong {
    color: var(--state-failed);
  }
</style>
