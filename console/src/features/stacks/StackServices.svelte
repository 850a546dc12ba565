<!-- The services of a stack on a host, with their containers and actions. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Modal, NumberInput } from "carbon-components-svelte";
  import { age, imageParts, portWords, stateWords } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { Container, OperationWish } from "../../lib/types";
  import StateMark from "../../ui/StateMark.svelte";
  import { inspect } from "../fleet/inspect";
  import InlineAction from "../../ui/InlineAction.svelte";

  let {
    host,
    stack,
    containers,
    revision,
  }: { host: string; stack: string; containers: Container[]; revision: number | undefined } = $props();

  const services = $derived.by(() => {
    const all = new Map<string, Container[]>();
    for (const c of containers) all.set(c.service ?? c.name, [...(all.get(c.service ?? c.name) ?? []), c]);
    return [...all].sort((a, b) => a[0].localeCompare(b[0]));
  });

  let scaling = $state.raw<{ service: string; now: number } | null>(null);
  let wanted = $state<number | null>(1);

  function scale() {
    if (!scaling || wanted === null) return;
    const request = {
      kind: "apply",
      targets: [host],
      stack,
      revision,
      scale: { [scaling.service]: wanted },
    } as OperationWish;
    pending.wish = {
      kind: "apply",
      containers: [],
      request,
      title: `Have ${scaling.service} ${wanted} times`,
    };
    scaling = null;
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="scroll" role="region" aria-label="Services" tabindex="0">
  <Rows data-test="stack-services">
    <thead
      ><tr><th>Service</th><th>Container</th><th>State</th><th>Image</th><th>Ports</th><td></td></tr></thead
    >
    <tbody>
      {#each services as [service, all] (service)}
        {#each all as c, n (c.id)}
          <tr class:first={n === 0}>
            <td
              >{#if n === 0}<strong>{service}</strong>{/if}</td
            >
            <td>
              <InlineAction onclick={() => inspect("container", `${c.host}/${c.name}`)}>
                <StateMark container={c} />
                {c.name}
              </InlineAction>
            </td>
            <td>
              {stateWords(c)}
              <span class="soft">{age(c.state === "running" ? c.started : c.finished, live.now)}</span>
              {#if c.attention && c.attention.severity !== "notice"}<div class="why">
                  {c.attention.sentence}
                </div>{/if}
            </td>
            <td class="mono">{imageParts(c.image).rest}</td>
            <td class="mono">{portWords(c.ports).join(", ")}</td>
            <td class="acts">
              {#if n === 0}
                <InlineAction onclick={() => inspect("container", `${c.host}/${c.name}`, "logs")}
                  >Logs</InlineAction
                >
                <InlineAction
                  onclick={() =>
                    (pending.wish = { kind: "restart", containers: all, title: `Restart ${service}` })}
                  >Restart…</InlineAction
                >
                {#if revision !== undefined}
                  <InlineAction
                    onclick={() => {
                      wanted = all.length;
                      scaling = { service, now: all.length };
                    }}>Scale…</InlineAction
                  >
                {/if}
              {/if}
            </td>
          </tr>
        {/each}
      {/each}
    </tbody>
  </Rows>
</div>
{#if scaling}
  <Modal
    open
    size="xs"
    modalHeading={`How many containers of ${scaling.service}?`}
    primaryButtonText="Preview"
    primaryButtonDisabled={wanted === null || wanted === scaling.now}
    secondaryButtonText="Cancel"
    on:click:button--secondary={() => (scaling = null)}
    on:close={() => (scaling = null)}
    on:submit={scale}
  >
    <NumberInput
      labelText="Containers"
      helperText={`Now: ${scaling.now}`}
      min={0}
      max={1000}
      bind:value={wanted}
    />
  </Modal>
{/if}
{#if revision === undefined}
  <p class="soft">To change the number of a service's containers, adopt the stack first.</p>
{/if}

<style>
  .scroll {
    overflow-x: auto;
  }
  .first td {
    border-top: 1px solid var(--line);
  }
  .why {
    color: var(--state-failed);
    font-size: 0.8125rem;
    max-width: 28rem;
  }
  .acts {
    white-space: nowrap;
  }
</style>
