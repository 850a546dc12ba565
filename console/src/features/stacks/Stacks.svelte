<!-- All stacks as their containers' labels tell: what is wanted, what runs, where. -->
<script lang="ts">
  import { imageParts, stateWords } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import type { StackRow } from "../../lib/types";
  import Mark from "../../ui/Mark.svelte";

  const list = new Listing<StackRow>("/api/v1/stacks");
  $effect(() => {
    void live.containers;
    list.soon();
  });

  function of(reference: string) {
    const [host, name] = reference.split("/");
    return live.container(host ?? "", name ?? "");
  }
</script>

<h1>Stacks</h1>
{#if list.wrong}<p>{list.wrong}</p>{/if}
{#if list.rows.length === 0}
  <div class="empty">
    <p>
      {list.fetching
        ? "Fetching…"
        : "No container says that it belongs to a stack. Tools that follow the Compose Specification say so with labels."}
    </p>
  </div>
{:else}
  <table class="rows" data-test="stacks">
    <thead
      ><tr><th>Stack and service</th><th>Runs</th><th>Containers</th><th>Image</th><th>Ports</th><th></th></tr
      ></thead
    >
    <tbody>
      {#each list.rows as stack (stack.name)}
        <tr class="stack" class:bad={stack.troubled > 0}>
          <td><button class="link name" onclick={() => inspect("stack", stack.name)}>{stack.name}</button></td
          >
          <td class:short={stack.running < stack.wanted}>{stack.running} of {stack.wanted}</td>
          <td class="soft"
            >{stack.hosts.join(", ")}{stack.troubled
              ? ` – ${stack.troubled} ${stack.troubled === 1 ? "needs" : "need"} attention`
              : ""}</td
          >
          <td></td>
          <td></td>
          <td class="acts">
            <button class="link" onclick={() => inspect("stack", stack.name, "logs")}>Logs</button>
            <button class="link" onclick={() => inspect("stack", stack.name, "use")}>Use</button>
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
                <button
                  class="link cell"
                  onclick={() => inspect("container", reference)}
                  title={c ? stateWords(c) : ""}
                >
                  {#if c}<Mark container={c} />{/if}
                  {reference.split("/")[0]}
                </button>
              {/each}
            </td>
            <td class="mono">{s.images.map((i) => imageParts(i).rest).join(", ")}</td>
            <td class="mono">{[...new Set(s.ports.map((p) => p.split(":")[1]))].join(", ")}</td>
            <td></td>
          </tr>
        {/each}
      {/each}
    </tbody>
  </table>
{/if}

<style>
  .stack td {
    padding-top: 0.9rem;
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
  .cell {
    margin-right: 0.8rem;
    white-space: nowrap;
  }
  .acts button + button {
    margin-left: 0.8rem;
  }
</style>
