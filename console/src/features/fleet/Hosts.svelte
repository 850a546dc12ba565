<!-- The hosts: how their links stand; adding one after a test, testing and removing. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import {
    Button,
    InlineNotification,
    Modal,
    OverflowMenu,
    OverflowMenuItem,
    Search,
  } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import Lazy from "../../shell/Lazy.svelte";
  import { isUp, needsAttention } from "./figures";
  import { age, bytes, number } from "../../lib/format";
  import { inspect } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { place, query, typedQuery } from "../../lib/router.svelte";
  import type { EngineFacts, Host, LinkProblem } from "../../lib/types";
  import AddHost from "./AddHost.svelte";
  import { HostUsage } from "../usage/hostUsage.svelte";
  import UsageBar from "../../ui/UsageBar.svelte";
  import Switcher from "../../ui/Switcher.svelte";
  import Spark from "../../ui/Spark.svelte";

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

  /** From so many hosts on they are filtered. */
  const FILTERED_FROM = 8;
  /** Hosts that are drawn before somebody asks for all. */
  const DRAWN = 50;
  let isWhole = $state(false);

  const isBad = (host: Host) =>
    host.state === "stale" || needsAttention(host) || !!counts.get(host.name)?.trouble;
  const typed = $derived((place.query.get("find") ?? "").trim().toLowerCase());
  const view = $derived(place.query.get("show") === "attention" ? "attention" : "");
  const bad = $derived(live.hosts.filter(isBad).length);
  const found = $derived(
    live.hosts.filter((host) => {
      if (view === "attention" && !isBad(host)) return false;
      const engine = host.engine ? `${host.engine.kind} ${host.engine.version}` : "";
      const words = [host.name, host.address, engine, ...(host.groups ?? [])].join(" ").toLowerCase();
      return typed.split(/\s+/).every((word) => words.includes(word));
    }),
  );
  const drawn = $derived(isWhole ? found : found.slice(0, DRAWN));

  async function test(name: string) {
    tests = { ...tests, [name]: "busy" };
    try {
      tests = { ...tests, [name]: await call<Test>("POST", "/api/v1/hosts/test", { name }) };
    } catch (error) {
      wrong = sentence(error);
    }
  }

  const usage = new HostUsage();
  $effect(() => usage.start());

  let addressing = $state.raw<Host | null>(null);

  type Disk = Host["disk"];

  function kinds(disk: Disk): [string, number][] {
    return [
      ["images", disk.images ?? 0],
      ["volumes", disk.volumes ?? 0],
      ["containers", disk.containers ?? 0],
      ["build cache", disk.build_cache ?? 0],
    ];
  }

  const held = (disk: Disk) => kinds(disk).reduce((sum, [, size]) => sum + size, 0);

  /** What of the engine's data takes the most room. */
  function largest(disk: Disk): string {
    const [name, size] = kinds(disk).sort((a, b) => b[1] - a[1])[0] ?? ["", 0];
    return size > 0 ? `${name}, ${bytes(size)}` : "";
  }

  function open(event: MouseEvent, name: string) {
    if (event.ctrlKey || event.metaKey || event.shiftKey) return;
    event.preventDefault();
    inspect("host", name);
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
  {#if live.hosts.length >= FILTERED_FROM}
    <div class="find-in">
      <Search
        id="filter"
        size="sm"
        placeholder="Filter by name, engine or group"
        labelText="Filter hosts"
        value={place.query.get("find") ?? ""}
        on:input={(event) => typedQuery({ find: (event.target as HTMLInputElement).value })}
        on:clear={() => query({ find: null }, true)}
      />
    </div>
    <Switcher
      name="Hosts shown"
      options={[
        ["", `All ${number(live.hosts.length)}`],
        ["attention", `Need attention ${number(bad)}`],
      ]}
      value={view}
      onchange={(word: string) => query({ show: word || null }, true)}
    />
  {/if}
  <Button size="small" on:click={() => (adding = !adding)}>{adding ? "Close" : "Connect a host"}</Button>
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
      No host is connected yet. Connect one by the address of its container engine: a socket on this machine,
      or TCP with mutual TLS.
    </p>
  </div>
{:else}
  <Rows data-test="hosts">
    <thead>
      <tr>
        <th>Host</th><th>Processor</th><th>Memory</th><th>Disk</th><th>Containers</th><th class="engine"
          >Engine</th
        ><th><span class="bx--visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      {#each drawn as host (host.name)}
        {@const count = counts.get(host.name)}
        {@const tested = tests[host.name]}
        {@const use = host.state === "live" ? usage.hosts.get(host.name) : undefined}
        <tr class:trouble={host.state === "stale"}>
          <td>
            <a class="name" href={`?inspect=host:${host.name}`} onclick={(event) => open(event, host.name)}
              >{host.name}</a
            >
            <div>
              {#if host.state === "live"}
                <span class="live">● connected</span>
              {:else if host.state === "connecting"}
                <span class="soft">◌ connecting</span>
              {:else}
                <span class="stale">⌁ unreachable</span>
                <span class="soft"
                  >{host.last_seen ? `last seen ${age(host.last_seen, live.now)} ago` : "never seen"}</span
                >
              {/if}
            </div>
          </td>
          <td data-label="Processor">
            {#if use && host.machine.processors}
              <UsageBar
                part={use.processors}
                whole={host.machine.processors}
                words={`${use.processors.toFixed(2)} of ${host.machine.processors} processors`}
              />
              <Spark values={use.recentProcessors} title={`Processor use of ${host.name}, last minutes`} />
            {:else if host.machine.processors}<span class="soft">{host.machine.processors} processors</span>
            {/if}
          </td>
          <td data-label="Memory">
            {#if use && host.machine.memory_total}
              <UsageBar
                part={use.memory}
                whole={host.machine.memory_total}
                words={`${bytes(use.memory)} of ${bytes(host.machine.memory_total)}`}
              />
              <Spark values={use.recentMemory} title={`Memory use of ${host.name}, last minutes`} />
            {:else if host.machine.memory_total}<span class="soft">{bytes(host.machine.memory_total)}</span>
            {/if}
          </td>
          <td data-label="Disk">
            {#if host.disk.total}
              <UsageBar
                part={host.disk.used}
                whole={host.disk.total}
                words={`${bytes(host.disk.used)} of ${bytes(host.disk.total)}`}
              />
            {:else if host.disk.measured}
              {bytes(held(host.disk))}
              <div class="soft" title="This engine does not report the size of its disk">
                used by the engine
              </div>
            {/if}
            {#if largest(host.disk)}<div class="soft">mostly {largest(host.disk)}</div>{/if}
          </td>
          <td data-label="Containers">
            {#if count}
              <a href={`/containers?hosts=${host.name}`}>{count.up} of {count.all} up</a>
              {#if count.trouble}<div class="stale">
                  {count.trouble}
                  {count.trouble === 1 ? "needs" : "need"} attention
                </div>{/if}
            {:else}<span class="soft">none</span>{/if}
          </td>
          <td class="engine" data-label="Engine">
            {#if host.engine}
              {host.engine.kind}
              {host.engine.version}
              <div class="soft">{host.engine.os}/{host.engine.architecture}</div>
            {/if}
          </td>
          <td class="acts">
            <OverflowMenu flipped size="sm" iconDescription={`Actions for ${host.name}`}>
              <OverflowMenuItem text="Test connection" on:click={() => void test(host.name)} />
              <OverflowMenuItem text="Address for published ports…" on:click={() => (addressing = host)} />
              <OverflowMenuItem danger hasDivider text="Remove…" on:click={() => (removing = host.name)} />
            </OverflowMenu>
          </td>
        </tr>
        {#if host.problem || host.attention || tested}
          <tr class="more">
            <td colspan="7">
              {#if tested === "busy"}
                <span class="soft">Testing the connection…</span>
              {:else if tested?.ok}
                <span class="live"
                  >Connection test passed: {tested.engine?.kind} {tested.engine?.version} answers.</span
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
  </Rows>
  {#if found.length === 0}
    <p class="soft none">
      No host matches. <Button size="small" kind="ghost" on:click={() => query({ find: null, show: null })}
        >Clear filters</Button
      >
    </p>
  {:else if drawn.length < found.length}
    <Button size="small" kind="ghost" on:click={() => (isWhole = true)}
      >Show {number(found.length - drawn.length)} more</Button
    >
  {/if}
{/if}

{#if addressing}
  <Lazy
    part={() => import("./PortsAddress.svelte")}
    with={{ host: addressing, onclose: () => (addressing = null) }}
  />
{/if}
{#if removing}
  <Modal
    open
    danger
    modalHeading={`Remove ${removing} from the fleet?`}
    primaryButtonText={`Remove ${removing}`}
    secondaryButtonText="Cancel"
    on:click:button--secondary={() => (removing = "")}
    on:close={() => (removing = "")}
    on:submit={() => void remove()}
  >
    <p>
      Nothing on the host changes: its containers keep running. Gubernum stops watching it and deletes its
      address and key.
    </p>
  </Modal>
{/if}

<style>
  .head {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem 1rem;
    align-items: center;
    margin-bottom: 0.5rem;
  }
  .head > :global(.bx--btn) {
    margin-left: auto;
  }
  .head h1 {
    margin: 0;
  }
  .find-in {
    flex: 0 1 20rem;
    min-width: min(14rem, 100%);
  }
  .none {
    display: flex;
    align-items: center;
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
  @container (40rem < width < 56rem) {
    .engine {
      display: none;
    }
  }
  .acts {
    white-space: nowrap;
  }
  tr.trouble {
    box-shadow: inset 3px 0 0 var(--state-failed);
  }
  .more td {
    border-top: 0;
    padding-top: 0;
  }
</style>
