<!-- One operation: who asked for it, its outcome for each target with the reason, and what can be done about it. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button, InlineNotification } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { bytes, moment } from "../../lib/format";
  import { query } from "../../lib/router.svelte";
  import type { Operation } from "../../lib/types";
  import InlineAction from "../../ui/InlineAction.svelte";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import OperationContainers from "./OperationContainers.svelte";
  import Transfer from "./Transfer.svelte";
  import { outcome, took } from "./words";

  let {
    operation: one,
    titled = true,
    onretried,
  }: {
    operation: Operation;
    /** With its heading; the inspector has one of its own. */
    titled?: boolean;
    /** Called with the operation that tries the rest again. */
    onretried: (again: Operation) => void;
  } = $props();

  let wrong = $state("");

  async function cancel(o: Operation) {
    try {
      await call("POST", `/api/v1/operations/${o.id}/cancel`);
    } catch (error) {
      wrong = sentence(error);
    }
  }

  const BAD = ["failed", "refused", "interrupted", "cancelled"];
  const won = $derived(one.targets.reduce((sum, t) => sum + (t.bytes ?? 0), 0));

  const STEPS: Record<string, string> = {
    pull: "pulling the image",
    "create-beside": "creating the new container",
    stop: "stopping the old container",
    exchange: "swapping the names",
    "start-new": "starting the new container",
    watch: "waiting until it is healthy",
    retire: "removing the old container",
    make: "creating the container",
    "create-volume": "creating a volume",
    "create-folder": "creating a folder",
  };
  const stepWords = (step: string) => STEPS[step] ?? step;

  async function retry(o: Operation) {
    try {
      onretried(await call<Operation>("POST", `/api/v1/operations/${o.id}/retry`));
    } catch (error) {
      wrong = sentence(error);
    }
  }

  const ORDER = ["failed", "interrupted", "refused", "cancelled", "running", "waiting"];

  /** What failed is first. */
  function worstFirst(o: Operation) {
    const rank = (state: string) => (ORDER.indexOf(state) + ORDER.length + 1) % (ORDER.length + 1);
    return [...o.targets].sort((a, b) => rank(a.state) - rank(b.state));
  }
</script>

{#if wrong}
  <InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />
{/if}
{#if titled}<h1 class="title">{one.kind} {one.references.join(" ")}</h1>{/if}
<p class="soft about">
  Operation {one.id}, started by {one.author} on {moment(one.created)}; {outcome(one)}{took(one)
    ? `, took ${took(one)}`
    : ""}
</p>
{#if one.state === "running"}
  <Button size="small" kind="tertiary" disabled={one.cancel_requested} on:click={() => void cancel(one)}>
    {one.cancel_requested ? "Cancelling…" : "Cancel"}
  </Button>
{/if}
{#if one.state !== "running" && one.targets.some((t) => BAD.includes(t.state))}
  <Button size="small" kind="tertiary" on:click={() => void retry(one)}>Retry failed</Button>
{/if}
{#if won > 0}<p data-test="won">{bytes(won)} freed.</p>{/if}
<Rows data-test="targets">
  <thead><tr><th>Target</th><th>Outcome</th><th>Reason</th></tr></thead>
  <tbody>
    {#each worstFirst(one) as t (`${one.targets.indexOf(t)} ${t.host}/${t.name}`)}
      <tr>
        <td
          ><InlineAction onclick={() => query({ inspect: `${t.host}/${t.name}` })}
            >{t.host}/{t.name}</InlineAction
          ></td
        >
        <td class={`outcome ${t.state}`}>{t.state}</td>
        <td
          >{#if t.sentence}<QuotedSentence text={t.sentence} />{/if}
          {#if t.state === "running" && t.progress}
            <Transfer progress={t.progress} label={`${t.host}/${t.name}`} />
          {:else if t.state === "running" && t.at !== undefined && t.steps}
            <span class="soft"
              >step {t.at + 1} of {t.steps.length}: {stepWords(t.steps[t.at]?.step ?? "")}</span
            >
          {:else if t.bytes}
            <span class="soft">{bytes(t.bytes)} freed</span>
          {/if}</td
        >
      </tr>
    {/each}
  </tbody>
</Rows>
<OperationContainers operation={one} />

<style>
  .title {
    overflow-wrap: anywhere;
    margin-top: 0.75rem;
  }
  .about {
    margin-bottom: 0.75rem;
  }
  .outcome.failed,
  .outcome.partly,
  .outcome.refused,
  .outcome.interrupted {
    color: var(--state-failed);
    font-weight: 600;
  }
  .outcome.succeeded {
    color: var(--state-well);
  }
  .outcome.running {
    color: var(--state-runs);
  }
</style>
