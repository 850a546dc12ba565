<!-- A host in the inspector: its link, engine and machine as far as its engine tells, its disk, what runs there, and its settings. -->
<script lang="ts">
  import { age, bytes, moment, stateWords, visible } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import type { Host } from "../../lib/types";
  import InlineAction from "../../ui/InlineAction.svelte";
  import UsageBar from "../../ui/UsageBar.svelte";
  import CopyInline from "../../ui/CopyInline.svelte";
  import StateMark from "../../ui/StateMark.svelte";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import { inspect } from "./inspect";
  import PortsAddress from "./PortsAddress.svelte";

  let { host }: { host: Host } = $props();

  let addressing = $state(false);

  /** So many containers are named; the list has all. */
  const NAMED = 12;

  const machine = $derived(host.machine);
  const here = $derived(live.containers.filter((c) => c.host === host.name));
  const running = $derived(here.filter((c) => c.state === "running").length);
  /** What needs attention first. */
  const named = $derived(
    [...here]
      .sort((a, b) => Number(!!b.attention) - Number(!!a.attention) || (a.name < b.name ? -1 : 1))
      .slice(0, NAMED),
  );

  const clock = $derived.by(() => {
    const ahead = machine.clock_ahead_ms;
    if (ahead === undefined) return undefined;
    if (ahead === 0) return "in sync with the service";
    return `${Math.abs(ahead) / 1000} s ${ahead > 0 ? "ahead of" : "behind"} the service's`;
  });
  const known = $derived<[string, string | undefined][]>([
    ["System", machine.system],
    ["Kernel", machine.kernel],
    ["Processors", machine.processors === undefined ? undefined : String(machine.processors)],
    [
      "Memory",
      machine.memory_total === undefined
        ? undefined
        : `${bytes(machine.memory_total)}${machine.memory_free === undefined ? "" : `, ${bytes(machine.memory_free)} free`}`,
    ],
    [
      "Running since",
      machine.booted ? `${moment(machine.booted)} (${age(machine.booted, live.now)})` : undefined,
    ],
    ["Clock", clock],
    [
      "Storage",
      machine.storage_driver
        ? `${machine.storage_driver}${machine.data_folder ? `, in ${machine.data_folder}` : ""}`
        : undefined,
    ],
    ["cgroup", machine.cgroup_version ? `version ${machine.cgroup_version}` : undefined],
  ]);
  /** What its engine does not tell, once it was reached. */
  const untold = $derived([
    ...known.filter(([, value]) => value === undefined).map(([name]) => name.toLowerCase()),
    ...(machine.memory_total !== undefined && machine.memory_free === undefined ? ["free memory"] : []),
    ...(host.disk.total ? [] : ["the size of its disk"]),
  ]);
</script>

{#if host.attention}
  <div class="reason {host.attention.severity}">
    <strong><QuotedSentence text={host.attention.sentence} /></strong>
    <div><QuotedSentence text={host.attention.advice} /></div>
    {#if host.attention.evidence?.length}<div class="soft">{host.attention.evidence.join(", ")}</div>{/if}
  </div>
{/if}
<dl>
  <dt>Link</dt>
  <dd>
    {host.state === "live" ? "● connected" : host.state === "stale" ? "⌁ unreachable" : "◌ connecting"}
    <span class="soft mono">{host.address}</span>
    <CopyInline text={host.address} what="the address" />
  </dd>
  <dt>Engine</dt>
  <dd>
    {host.engine
      ? `${host.engine.kind} ${host.engine.version}, API ${host.engine.api_version}, ${host.engine.os}/${host.engine.architecture}`
      : "not reached yet"}
  </dd>
  {#each known as [name, value] (name)}
    {#if value !== undefined}
      <dt>{name}</dt>
      <dd>{value}</dd>
    {/if}
  {/each}
</dl>
{#if host.engine && untold.length > 0}
  <p class="soft">Not reported by this engine: {untold.join(", ")}.</p>
{/if}
<h3>Containers</h3>
<p class="soft">
  {running} of {here.length} containers are running; {host.assets.images} images, {host.assets.volumes} volumes,
  {host.assets.networks} networks.
</p>
{#each named as c (c.id)}
  <div>
    <InlineAction onclick={() => inspect("container", `${c.host}/${c.name}`)}
      ><StateMark container={c} /> {c.name}</InlineAction
    >
    <span class="soft">{stateWords(c)}</span>
  </div>
{/each}
{#if here.length > NAMED}
  <p><a href={`/containers?hosts=${encodeURIComponent(host.name)}`}>All {here.length} containers</a></p>
{/if}
<h3>Disk of the engine's data</h3>
{#if host.disk.total}
  <UsageBar
    part={host.disk.used}
    whole={host.disk.total}
    words={`${bytes(host.disk.used)} of ${bytes(host.disk.total)} used`}
  />
{/if}
<dl>
  <dt>Images</dt>
  <dd>{bytes(host.disk.images)} <span class="soft">shared layers counted once</span></dd>
  <dt>Volumes</dt>
  <dd>{bytes(host.disk.volumes)}</dd>
  <dt>Containers</dt>
  <dd>{bytes(host.disk.containers)} <span class="soft">writable layers</span></dd>
  <dt>Build cache</dt>
  <dd>{bytes(host.disk.build_cache)}</dd>
</dl>
{#if host.disk.measured}<p class="soft">Measured {age(host.disk.measured, live.now)} ago.</p>{/if}
{#each machine.warnings ?? [] as warning (warning)}
  <p class="soft">The engine warns: {visible(warning)}</p>
{/each}
<h3>Settings</h3>
<dl>
  <dt>Published ports</dt>
  <dd>
    {host.ports_address ?? "no address: ports are not links"}
  </dd>
  <dt>Groups</dt>
  <dd>{host.groups?.join(", ") || "none"}</dd>
</dl>
{#if session.isAdmin}<p>
    <InlineAction onclick={() => (addressing = true)}>Change the address for published ports…</InlineAction>
  </p>{/if}
{#if addressing}<PortsAddress {host} onclose={() => (addressing = false)} />{/if}
<h3>Recent connection errors</h3>
{#each host.past_problems ?? [] as past (past.time)}
  <p>{moment(past.time)}: <QuotedSentence text={past.problem.sentence} /></p>
{:else}
  <p class="soft">None since the service started.</p>
{/each}
