<!-- The jobs of a stack: when each is due, what its runs came to and said, and running one now. -->
<script lang="ts">
  import { Accordion, AccordionItem, Button, InlineNotification, Tile } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { JobRow, JobRun, JobRunOutput, OperationWish } from "../../lib/types";
  import { isBad, isBadRun, lastRun, until } from "./jobs";

  let { host, stack }: { host: string; stack: string } = $props();

  const jobs = $derived(live.jobs.filter((row) => row.host === host && row.stack === stack));
  let runs = $state.raw<Record<string, JobRun[]>>({});
  let outputs = $state.raw<Record<number, JobRunOutput>>({});
  let wrong = $state("");

  const path = (row: JobRow) =>
    `/api/v1/jobs/${[row.host, row.stack, row.service].map(encodeURIComponent).join("/")}/runs`;

  $effect(() => {
    // A run that ended is a change of its row.
    for (const row of jobs) {
      call<JobRun[]>("GET", path(row))
        .then((all) => (runs = { ...runs, [row.service]: all }))
        .catch((error: unknown) => (wrong = sentence(error)));
    }
  });

  async function read(run: JobRun) {
    if (outputs[run.id]) return;
    try {
      outputs = { ...outputs, [run.id]: await call<JobRunOutput>("GET", `/api/v1/job-runs/${run.id}`) };
    } catch (error) {
      wrong = sentence(error);
    }
  }

  function start(row: JobRow) {
    const request = { kind: "run", targets: [host], stack, service: row.service } as OperationWish;
    pending.wish = { kind: "run", containers: [], request, title: `Run ${row.service} of ${stack} now` };
  }

  function title(run: JobRun): string {
    const took = Math.round((Date.parse(run.ended) - Date.parse(run.began)) / 1000);
    const code = run.exit_code ? ` with exit code ${run.exit_code}` : "";
    const length = run.operation ? `, took ${took} s` : "";
    return `${run.outcome}${code}, ${age(run.ended, live.now)} ago${length}`;
  }
</script>

{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
{#if jobs.length === 0}
  <p class="soft">
    No service of this stack is a job. A schedule makes a service a job:
    <code>x-gubernum-schedule: "30 2 * * *"</code>.
  </p>
{/if}
{#each jobs as row (row.service)}
  <Tile>
    <section aria-label={row.service}>
      <div class="head">
        <div>
          <h3>{row.service}</h3>
          <p class:bad={isBad(row)}>{lastRun(row, live.now)}</p>
          <p class="soft">
            {#if row.schedule?.cron}
              <code>{row.schedule.cron}</code>
              {row.schedule.time_zone}{#if row.next}, next {until(row.next, live.now)} ({moment(
                  row.next,
                )}){/if}
            {:else}
              run manual only
            {/if}
          </p>
        </div>
        <Button size="small" kind="tertiary" on:click={() => start(row)}>Run now…</Button>
      </div>
      {#if (runs[row.service] ?? []).length > 0}
        {@const kept = (runs[row.service] ?? []).length}
        <p class="soft">{kept === 1 ? "1 run is kept" : `${kept} runs are kept`}</p>
        <Accordion>
          {#each runs[row.service] ?? [] as run (run.id)}
            <AccordionItem on:click={() => void read(run)}>
              <svelte:fragment slot="title"
                ><span class:bad={isBadRun(run)}>{title(run)}</span></svelte:fragment
              >
              {#if run.sentence}<p>{run.sentence}</p>{/if}
              {#if outputs[run.id]?.output}
                {#if outputs[run.id]?.cut}<p class="soft">Only the end of the output is kept.</p>{/if}
                <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
                <pre tabindex="0" aria-label="Output">{outputs[run.id]?.output}</pre>
              {:else if outputs[run.id]}
                <p class="soft">No output.</p>
              {/if}
              {#if run.operation}
                <a href={`/operations?inspect=operation:${run.operation}`}>Operation {run.operation}</a>
              {/if}
            </AccordionItem>
          {/each}
        </Accordion>
      {/if}
    </section>
  </Tile>
{/each}

<style>
  section {
    margin-bottom: 0.5rem;
  }
  .head {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem 1rem;
    justify-content: space-between;
    align-items: flex-start;
    margin-bottom: 0.5rem;
  }
  .head > div {
    flex: 1;
    min-width: 12rem;
  }
  h3 {
    margin: 0;
    font-size: 1rem;
  }
  code {
    margin-right: 0.4rem;
  }
  .bad {
    color: var(--state-failed);
    font-weight: 600;
  }
  pre {
    max-height: 20rem;
    overflow: auto;
    margin: 0.4rem 0;
    padding: 0.5rem;
    background: var(--cds-field-01);
    font-size: 0.8125rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  section :global(.bx--accordion__content) {
    padding-right: 1rem;
  }
</style>
