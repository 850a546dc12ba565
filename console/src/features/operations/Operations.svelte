<!-- What was changed, by whom, and what came of it; one operation with an outcome for each target. -->
<script lang="ts">
  import { Button, InlineNotification } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, bytes, moment, tally } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { go, place, query } from "../../lib/router.svelte";
  import type { Operation } from "../../lib/types";
  import OperationContainers from "./OperationContainers.svelte";
  import Said from "../exec/Said.svelte";
  import Act from "../../ui/Act.svelte";

  let past = $state.raw<Operation[]>([]);
  let whole = $state(false);
  let single = $state.raw<Operation | null>(null);
  let wrong = $state("");

  const PAGE = 100;
  const id = $derived(Number(place.path.split("/")[2] ?? 0));

  const all = $derived.by(() => {
    const byId = new Map(past.map((o) => [o.id, o]));
    for (const o of live.operations) byId.set(o.id, o);
    return [...byId.values()].sort((a, b) => b.id - a.id);
  });
  const one = $derived(id ? (all.find((o) => o.id === id) ?? (single?.id === id ? single : null)) : null);

  async function more() {
    try {
      const before = past.at(-1)?.id;
      const next = await call<Operation[]>(
        "GET",
        `/api/v1/operations?limit=${PAGE}${before ? `&before=${before}` : ""}`,
      );
      past = [...past, ...next];
      whole = next.length < PAGE;
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }

  void more();

  $effect(() => {
    if (!id || all.some((o) => o.id === id)) return;
    call<Operation>("GET", `/api/v1/operations/${id}`)
      .then((o) => (single = o))
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  async function cancel(o: Operation) {
    try {
      await call("POST", `/api/v1/operations/${o.id}/cancel`);
    } catch (error) {
      wrong = sentence(error);
    }
  }

  const BAD = ["failed", "refused", "interrupted", "cancelled"];
  const won = $derived((one?.targets ?? []).reduce((sum, t) => sum + (t.bytes ?? 0), 0));

  const STEPS: Record<string, string> = {
    pull: "fetching the image",
    "make-beside": "making the new one",
    stop: "ending the old one",
    exchange: "exchanging the names",
    "start-new": "starting the new one",
    watch: "seeing whether it comes up",
    retire: "taking the old one away",
    make: "making it",
    "make-volume": "making a volume",
    "make-folder": "making a folder",
  };
  const stepWords = (step: string) => STEPS[step] ?? step;

  async function retry(o: Operation) {
    try {
      const again = await call<Operation>("POST", `/api/v1/operations/${o.id}/retry`);
      go(`/operations/${again.id}`);
    } catch (error) {
      wrong = sentence(error);
    }
  }

  const ORDER = ["failed", "interrupted", "refused", "cancelled", "running", "waiting"];

  /** What failed stands first. */
  function worstFirst(o: Operation) {
    const rank = (state: string) => (ORDER.indexOf(state) + ORDER.length + 1) % (ORDER.length + 1);
    return [...o.targets].sort((a, b) => rank(a.state) - rank(b.state));
  }

  function outcome(o: Operation): string {
    const { bad, all: count } = tally(o);
    if (o.state === "running") return "under way";
    return bad ? `${o.state}: ${count - bad} of ${count} succeeded` : `${count} succeeded`;
  }

  function took(o: Operation): string {
    if (!o.ended) return "";
    return `${((Date.parse(o.ended) - Date.parse(o.created)) / 1000).toFixed(1)} s`;
  }
</script>

{#if wrong}
  <InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />
{/if}
{#if id}
  <p><a href="/operations">← All operations</a></p>
  {#if one}
    <h1 class="title">{one.kind} {one.references.join(" ")}</h1>
    <p class="soft about">
      Operation {one.id}, asked for by {one.author} on {moment(one.created)}; {outcome(one)}{took(one)
        ? `, took ${took(one)}`
        : ""}
    </p>
    {#if one.state === "running"}
      <Button size="small" kind="tertiary" disabled={one.cancel_requested} on:click={() => void cancel(one)}>
        {one.cancel_requested ? "Being called off…" : "Call it off"}
      </Button>
    {/if}
    {#if one.state !== "running" && one.targets.some((t) => BAD.includes(t.state))}
      <Button size="small" kind="tertiary" on:click={() => void retry(one)}>Try the rest again</Button>
    {/if}
    {#if won > 0}<p data-test="won">{bytes(won)} won.</p>{/if}
    <table class="rows" data-test="targets">
      <thead><tr><th>Target</th><th>Outcome</th><th>Reason</th></tr></thead>
      <tbody>
        {#each worstFirst(one) as t (`${one.targets.indexOf(t)} ${t.host}/${t.name}`)}
          <tr>
            <td><Act onclick={() => query({ inspect: `${t.host}/${t.name}` })}>{t.host}/{t.name}</Act></td>
            <td class={`outcome ${t.state}`}>{t.state}</td>
            <td
              >{#if t.sentence}<Said text={t.sentence} />{/if}
              {#if t.state === "running" && t.progress}
                <div class="progress" data-test="progress">
                  {t.progress.doing}
                  {#each t.progress.layers ?? [] as layer (layer.id)}
                    <div class="layer">
                      <span class="mono">{layer.id}</span>
                      <progress value={layer.done} max={Math.max(layer.total, layer.done, 1)}></progress>
                      <span class="soft"
                        >{layer.doing}
                        {layer.total ? `${bytes(layer.done)} of ${bytes(layer.total)}` : ""}</span
                      >
                    </div>
                  {/each}
                </div>
              {:else if t.state === "running" && t.at !== undefined && t.steps}
                <span class="soft"
                  >step {t.at + 1} of {t.steps.length}: {stepWords(t.steps[t.at]?.step ?? "")}</span
                >
              {:else if t.bytes}
                <span class="soft">{bytes(t.bytes)} won</span>
              {/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
    <OperationContainers operation={one} />
  {/if}
{:else}
  <h1>Operations</h1>
  {#if all.length === 0}
    <p class="soft">
      Nothing has been changed yet. Every start, stop, restart, kill and removal is kept here.
    </p>
  {:else}
    <table class="rows" data-test="operations">
      <thead><tr><th>When</th><th>Who</th><th>What</th><th>On</th><th>Outcome</th></tr></thead>
      <tbody>
        {#each all as o (o.id)}
          <tr>
            <td class="soft" title={moment(o.created)}>{age(o.created, live.now)} ago</td>
            <td>{o.author}</td>
            <td>{o.kind}</td>
            <td
              ><a href={`/operations/${o.id}`}
                >{o.references.slice(0, 3).join(" ")}{o.references.length > 3 ? " …" : ""}</a
              ></td
            >
            <td class={`outcome ${o.state}`}>{outcome(o)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if !whole && past.length > 0}
      <Button size="small" kind="ghost" on:click={() => void more()}>Show earlier ones</Button>
    {/if}
  {/if}
{/if}

<style>
  .layer {
    display: grid;
    grid-template-columns: 7rem 10rem minmax(0, 1fr);
    gap: 0.6rem;
    align-items: center;
    font-size: 0.75rem;
  }

  .title {
    overflow-wrap: anywhere;
    margin-top: 0.75rem;
  }
  .about {
    margin-bottom: 0.75rem;
  }
  table {
    margin-top: 1rem;
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
