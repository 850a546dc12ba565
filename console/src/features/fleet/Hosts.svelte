<!-- The hosts: how their links stand; adding one after a test, testing and removing. -->
<script lang="ts">
  import { Button, InlineNotification, Modal } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { isUp, needsAttention } from "./figures";
  import { age, bytes } from "../../lib/format";
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import type { EngineFacts, LinkProblem } from "../../lib/types";
  import AddHost from "./AddHost.svelte";
  import Bar from "../../ui/Bar.svelte";

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
      if (isUp(c)) count.up += 1;
      if (needsAttention(c)) count.trouble += 1;
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

  async function setPublic(name: string, address: string) {
    try {
      await call("PATCH", `/api/v1/hosts/${encodeURIComponent(name)}`, { public_address: address });
      wrong = "";
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
      <tr
        ><th>Host</th><th>Link</th><th>Engine</th><th>Machine</th><th>Disk</th><th>Containers</th><th
          >Public address</th
        ><th></th></tr
      >
    </thead>
    <tbody>
      {#each live.hosts as host (host.name)}
        {@const count = counts.get(host.name)}
        {@const tested = tests[host.name]}
        <tr>
          <td><button class="link name" onclick={() => inspect("host", host.name)}>{host.name}</button></td>
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
            {host.machine.processors ? `${host.machine.processors} processors` : "–"}
            <div class="soft">{host.machine.memory_total ? bytes(host.machine.memory_total) : ""}</div>
          </td>
          <td>
            {#if host.disk.total}
              <Bar
                part={host.disk.used}
                whole={host.disk.total}
                words={`${bytes(host.disk.used)} of ${bytes(host.disk.total)}`}
              />
            {:else if host.disk.measured}
              {bytes(
                (host.disk.images ?? 0) +
                  (host.disk.volumes ?? 0) +
                  (host.disk.containers ?? 0) +
                  (host.disk.build_cache ?? 0),
              )}
              <div class="soft">size unknown</div>
            {:else}–{/if}
          </td>
          <td>
            {#if count}
              <a href={`/containers?hosts=${host.name}`}>{count.up} of {count.all} up</a>
              {#if count.trouble}<div class="stale">
                  {count.trouble}
                  {count.trouble === 1 ? "needs" : "need"} attention
                </div>{/if}
            {:else}–{/if}
          </td>
          <td>
            <input
              class="public"
              placeholder="none"
              aria-label={`Public address of ${host.name}`}
              value={host.public_address ?? ""}
              onchange={(event) => void setPublic(host.name, event.currentTarget.value.trim())}
            />
          </td>
          <td class="acts">
            <button class="link" onclick={() => void test(host.name)}>Test</button>
            <button class="link" onclick={() => (removing = host.name)}>Remove…</button>
          </td>
        </tr>
        {#if host.problem || host.attention || tested}
          <tr class="more">
            <td></td>
            <td colspan="7">
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
              {:else if host.attention}
                <strong>{host.attention.sentence}</strong> {host.attention.advice}
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
    secondaryButtonText="Cancel"
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
  @container (max-width: 60rem) {
    th:nth-child(4),
    td:nth-child(4):not(:only-child),
    th:nth-child(7),
    td:nth-child(7) {
      display: none;
    }
  }
  .public {
    width: 10rem;
    height: 1.7rem;
    padding: 0 0.5rem;
    border: 1px solid var(--line);
    background: var(--cds-field-01);
    color: inherit;
    font: inherit;
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
