<!-- All stacks as their containers' labels tell: what is wanted, what runs, where. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button } from "carbon-components-svelte";
  import { imageParts, stateWords } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import type { StackRow } from "../../lib/types";
  import StateMark from "../../ui/StateMark.svelte";
  import { pageOf } from "./words";
  import InlineAction from "../../ui/InlineAction.svelte";

  const list = new Listing<StackRow>("/api/v1/stacks");
  $effect(() => {
    void live.containers;
    list.soon();
  });

  const drifted = $derived(live.drift.filter((row) => row.differs.length > 0));

  function of(reference: string) {
    const [host, name] = reference.split("/");
    return live.container(host ?? "", name ?? "");
  }
</script>

<div class="page-in">
  <div class="head">
    <h1>Stacks</h1>
    <Button size="small" href="/stacks/edit">Deploy a stack</Button>
  </div>
  {#if list.wrong}<p>{list.wrong}</p>{/if}
  {#if list.rows.length === 0}
    <div class="empty">
      <p>
        {list.fetching
          ? "Loading…"
          : "No stack yet. Deploy one from a Compose file; stacks started by other tools appear here automatically."}
      </p>
    </div>
  {:else}
    <Rows data-test="stacks">
      <thead
        ><tr
          ><th>Stack and service</th><th>Running</th><th>Containers</th><th>Image</th><th>Ports</th><td
          ></td></tr
        ></thead
      >
      <tbody>
        {#each list.rows as stack (stack.name)}
          <tr class="stack" class:bad={stack.troubled > 0}>
            <td>
              {#if stack.hosts.length === 1 && stack.hosts[0]}
                <a class="name" href={pageOf(stack.hosts[0], stack.name)}>{stack.name}</a>
              {:else}
                <InlineAction class="name" onclick={() => inspect("stack", stack.name)}
                  >{stack.name}</InlineAction
                >
              {/if}
            </td>
            <td class:short={stack.running < stack.wanted}>{stack.running} of {stack.wanted}</td>
            <td class="soft">
              {#each stack.hosts as host, n (host)}{n > 0 ? ", " : ""}<a href={pageOf(host, stack.name)}
                  >{host}</a
                >{/each}{stack.troubled
                ? ` – ${stack.troubled} ${stack.troubled === 1 ? "needs" : "need"} attention`
                : ""}
              {#each drifted.filter((row) => row.stack === stack.name) as row (row.host)}
                <span class="drift">drifted{stack.hosts.length > 1 ? ` on ${row.host}` : ""}</span>
              {/each}
            </td>
            <td></td>
            <td></td>
            <td class="acts">
              <InlineAction onclick={() => inspect("stack", stack.name, "logs")}>Logs</InlineAction>
              <InlineAction onclick={() => inspect("stack", stack.name, "use")}>Usage</InlineAction>
            </td>
          </tr>
          {#each stack.services as s (s.name)}
            <tr>
              <td class="service">{s.name}</td>
              <td class:short={s.running < s.wanted}
                >{s.running} of {s.wanted}{s.unhealthy ? `, ${s.unhealthy} unhealthy` : ""}</td
              >
              <td>
                {#each s.containers as reference (reference)}
                  {@const c = of(reference)}
                  <InlineAction
                    class="cell"
                    onclick={() => inspect("container", reference)}
                    title={c ? stateWords(c) : ""}
                  >
                    {#if c}<StateMark container={c} />{/if}
                    {reference.split("/")[0]}
                  </InlineAction>
                {/each}
              </td>
              <td class="mono">{s.images.map((i) => imageParts(i).rest).join(", ")}</td>
              <td class="mono">{[...new Set(s.ports.map((p) => p.split(":")[1]))].join(", ")}</td>
              <td></td>
            </tr>
          {/each}
        {/each}
      </tbody>
    </Rows>
  {/if}
</div>

<style>
  .page-in {
    flex: 1;
    min-height: 0;
    overflow: auto;
    padding: 1.25rem 1.5rem;
  }
  .head {
    display: flex;
    justify-content: space-between;
    align-items: start;
  }
  .drift {
    color: var(--state-sick);
    font-weight: 600;
    margin-left: 0.5rem;
  }
  @container (min-width: 40rem) {
    .stack td {
      padding-top: 0.9rem;
    }
  }
  .stack.bad {
    box-shadow: inset 3px 0 0 var(--state-failed);
  }
  .name {
    font-weight: 600;
  }
  .service {
    padding-left: 2rem;
  }
  .short {
    color: var(--state-failed);
    font-weight: 600;
  }
</style>
