<!-- The hosts: how their links stand; adding one after a test, testing and removing. -->
<script lang="ts">
  import { Button, InlineNotification, Modal } from "carbon-components-svelte";
  import { call, sentence } from "../lib/api";
  import { age } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { EngineFacts, LinkProblem } from "../lib/types";
  import AddHost from "../parts/AddHost.svelte";

  interface Test {
    ok: boolean;
    engine?: EngineFacts;
    problem?: LinkProblem;
  }

  let adding = $state(false);
  let tests = $state.raw<Record<string, Test | "busy">>({});
  let removing = $state("");
  let wrong = $state("");

  const counts = $derived.by(() => {
    const found = new Map<string, { all: number; up: number; trouble: number }>();
    for (const c of live.containers) {
      const count = found.get(c.host) ?? { all: 0, up: 0, trouble: 0 };
      count.all += 1;
      if (c.state === "running") count.up += 1;
      if (c.attention) count.trouble += 1;
      found.set(c.host, count);
    }
    return found;
  });

  async function test(name: string) {
    tests = { ...tests, [name]: "busy" };
    try {
      tests = { ...tests, [name]: await call<Test>("POST", "/api/v1/hosts/test", { name }) };
    } catch (error) {
      wrong = sentence(error);
    }
  }

  async function remove() {
    try {
      await call("DELETE", `/api/v1/hosts/${encodeURIComponent(removing)}`);
      removing = "";
    } catch (error) {
      wrong = sentence(error);
      removing = "";
    }
  }
</script>

<div class="head">
  <h1>Hosts</h1>
  <Button size="small" on:click={() => (adding = !adding)}>{adding ? "Close the form" : "Add a host"}</Button>
</div>
{#if wrong}
  <InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />
{/if}
{#if adding}
  <AddHost ondone={() => (adding = false)} />
{/if}
{#if live.hosts.length === 0}
  <div class="empty">
    <p>
      No host is connected. Add one by the address of its container engine: a socket on this machine, or TCP
      with mutual TLS.
    </p>
  </div>
{:else}
  <table class="rows" data-test="hosts">
    <thead>
      <tr><th>Host</th><th>Link</th><th>Engine</th><th>Containers</th><th>Address</th><th></th></tr>
    </thead>
    <tbody>
      {#each live.hosts as host (host.name)}
        {@const count = counts.get(host.name)}
        {@const tested = tests[host.name]}
        <tr>
          <td><a class="name" href={`/containers?hosts=${host.name}`}>{host.name}</a></td>
          <td>
            {#if host.state === "live"}
              <span class="live">● live</span>
            {:else if host.state === "connecting"}
              <span class="soft">◌ connecting</span>
            {:else}
              <span class="stale">⌁ out of reach</span>
              <div class="soft">
                {host.last_seen ? `last seen ${age(host.last_seen, live.now)} ago` : "never seen"}
              </div>
            {/if}
          </td>
          <td>
            {#if host.engine}
              {host.engine.kind}
              {host.engine.version}
              <div class="soft">
                API {host.engine.api_version}, {host.engine.os}/{host.engine.architecture}
              </div>
            {/if}
          </td>
          <td>
            {#if count}
              {count.up} of {count.all} up
              {#if count.trouble}<div class="stale">{count.trouble} in trouble</div>{/if}
            {:else}–{/if}
          </td>
          <td class="mono address">{host.address}</td>
          <td class="acts">
            <button class="link" onclick={() => void test(host.name)}>Test</button>
            <button class="link" onclick={() => (removing = host.name)}>Remove…</button>
          </td>
        </tr>
        {#if host.problem || tested}
          <tr class="more">
            <td></td>
            <td colspan="5">
              {#if tested === "busy"}
                <span class="soft">Testing…</span>
              {:else if tested?.ok}
                <span class="live"
                  >The test went well: {tested.engine?.kind} {tested.engine?.version} answers.</span
                >
              {:else if tested?.problem}
                <strong>{tested.problem.sentence}</strong> {tested.problem.advice}
              {:else if host.problem}
                <strong>{host.problem.sentence}</strong> {host.problem.advice}
              {/if}
            </td>
          </tr>
        {/if}
      {/each}
    </tbody>
  </table>
{/if}

{#if removing}
  <Modal
    open
    danger
    modalHeading={`Take ${removing} out of the fleet?`}
    primaryButtonText="Take it out"
    secondaryButtonText="Leave it"
    on:click:button--secondary={() => (removing = "")}
    on:close={() => (removing = "")}
    on:submit={() => void remove()}
  >
    <p>
      Nothing is done to the host: its containers run on. Gubernum no longer watches it, and forgets its
      address and the key of its link.
    </p>
  </Modal>
{/if}

<style>
  .head {
    display: flex;
    justify-content: space-between;
    align-items: flex-start;
  }
  .name {
    font-weight: 600;
  }
  .live {
    color: var(--state-well);
  }
  .stale {
    color: var(--state-failed);
    font-weight: 600;
  }
  .address {
    font-size: 0.75rem;
    overflow-wrap: anywhere;
    max-width: 18rem;
  }
  .acts {
    white-space: nowrap;
  }
  .acts button + button {
    margin-left: 0.75rem;
  }
  .more td {
    border-top: 0;
    padding-top: 0;
  }
</style>
