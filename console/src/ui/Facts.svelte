<!-- The facts of one container: why it needs a person, then what it is made of. -->
<script lang="ts">
  import { call, sentence } from "../lib/api";
  import { age, moment, portWords, reference, visible } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Container, Detail, Variable } from "../lib/types";
  import Settings from "../features/access/Settings.svelte";
  import ContainerNetworks from "../features/fleet/ContainerNetworks.svelte";
  import InlineAction from "./InlineAction.svelte";
  import CopyInline from "./CopyInline.svelte";

  let { container }: { container: Container } = $props();

  let environment = $state.raw<Variable[] | null>(null);
  let raw = $state.raw<unknown>(null);
  let wrong = $state("");

  const address = $derived(
    `/api/v1/containers/${encodeURIComponent(container.host)}/${encodeURIComponent(container.name)}`,
  );

  $effect(() => {
    const path = address;
    environment = null;
    wrong = "";
    call<Detail>("GET", path)
      .then((detail) => {
        if (path === address) [environment, raw] = [detail.environment, detail.raw];
      })
      .catch((error: unknown) => {
        if (path === address) wrong = sentence(error);
      });
  });

  async function reveal(name: string) {
    try {
      const shown = await call<Variable>("POST", `${address}/reveal`, { variable: name });
      environment = (environment ?? []).map((v) => (v.name === name ? shown : v));
    } catch (error) {
      wrong = sentence(error);
    }
  }

  /** Where a browser finds a published port, when the host's address for ports is set. */
  function link(port: string): string {
    const address = live.hosts.find((h) => h.name === container.host)?.ports_address;
    const number = port.split("→")[0]?.split(":").at(-1);
    if (!address || !number || port.includes("/")) return "";
    return `${["443", "8443"].includes(number) ? "https" : "http"}://${address}:${number}/`;
  }

  const inner = $derived(container.ports.filter((p) => p.host_port === undefined));
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="facts" role="region" aria-label="Facts" tabindex="0">
  {#if container.attention}
    <div class="reason {container.attention.severity}">
      <strong>{container.attention.sentence}</strong>
      <div>{container.attention.advice}</div>
      {#if container.attention.evidence?.length}
        <ul class="evidence mono" data-test="evidence">
          {#each container.attention.evidence as line, i (i)}<li>{visible(line)}</li>{/each}
        </ul>
      {/if}
    </div>
  {/if}
  <dl>
    <dt>Image</dt>
    <dd class="mono">{container.image} <CopyInline text={container.image} what="the image" /></dd>
    <dt>Command</dt>
    <dd class="mono">{container.command || "–"}</dd>
    {#if container.stack}
      <dt>Stack</dt>
      <dd>{container.stack}{container.service ? ` / ${container.service}` : ""}</dd>
    {/if}
    <dt>ID</dt>
    <dd class="mono">{container.id.slice(0, 12)} <CopyInline text={container.id} what="the full ID" /></dd>
    <dt>Created</dt>
    <dd>{moment(container.created)} <span class="soft">({age(container.created, live.now)} ago)</span></dd>
    {#if container.started}
      <dt>Started</dt>
      <dd>{moment(container.started)} <span class="soft">({age(container.started, live.now)} ago)</span></dd>
    {/if}
    {#if container.finished && container.state !== "running"}
      <dt>Exited</dt>
      <dd>
        {moment(container.finished)} <span class="soft">({age(container.finished, live.now)} ago)</span>
        {#if container.exit_code !== undefined}with code {container.exit_code}{/if}
      </dd>
    {/if}
    <dt>Restarts</dt>
    <dd>{container.restart_count} <span class="soft">(policy {container.restart_policy})</span></dd>
    {#if container.architecture}
      <dt>Architecture</dt>
      <dd>{container.architecture}</dd>
    {/if}
  </dl>

  <h3>Networks</h3>
  {#each container.networks as network (network)}
    {@const there = container.attachments?.find((a) => a.network === network)}
    <div>
      {network}
      {#if there?.address}<CopyInline text={there.address} what={`the address in ${network}`} />{/if}
      <span class="soft">
        {[
          there?.address,
          there?.ipv6,
          there?.aliases?.length
            ? `${there.aliases.length === 1 ? "alias" : "aliases"} ${there.aliases.join(", ")}`
            : "",
        ]
          .filter(Boolean)
          .join(", ")}
      </span>
    </div>
  {:else}
    <p class="soft">None.</p>
  {/each}
  <ContainerNetworks {container} />

  <h3>Ports</h3>
  {#if container.ports.length === 0}
    <p class="soft">None.</p>
  {:else}
    <ul>
      {#each portWords(container.ports) as port (port)}
        {@const to = link(port)}
        <li class="mono">
          {#if to}<a href={to} target="_blank" rel="noreferrer">{port}</a>{:else}{port}{/if}
        </li>
      {/each}
      {#each inner as port (`${port.container_port}/${port.protocol}`)}
        <li class="mono soft">{port.container_port}/{port.protocol} (not published)</li>
      {/each}
    </ul>
  {/if}

  <h3>Mounts</h3>
  {#each container.mounts as mount (mount.target)}
    <div class="mount">
      <span class="mono">{mount.target}</span>
      <div class="soft">
        {mount.anonymous ? "anonymous volume" : mount.kind}
        <span class="mono">{mount.anonymous ? mount.source.slice(0, 12) : mount.source}</span>
        {mount.read_only ? ", read only" : ""}
      </div>
    </div>
  {:else}
    <p class="soft">None.</p>
  {/each}

  <h3>Environment</h3>
  {#if wrong}
    <p class="soft">{wrong}</p>
  {:else if !environment}
    <p class="soft">Loading…</p>
  {:else if environment.length === 0}
    <p class="soft">None.</p>
  {:else}
    <dl class="narrow">
      {#each environment as variable, index (index)}
        <dt class="mono">{variable.name}</dt>
        <dd class="mono">
          {variable.value}
          {#if variable.masked}
            <InlineAction
              title="Showing it is written to the audit log"
              onclick={() => void reveal(variable.name)}>show</InlineAction
            >
          {/if}
        </dd>
      {/each}
    </dl>
  {/if}

  {#if raw}<Settings {raw} />{/if}

  <h3>Labels</h3>
  {#if Object.keys(container.labels).length === 0}
    <p class="soft">None.</p>
  {:else}
    <dl class="narrow">
      {#each Object.entries(container.labels) as [name, value] (name)}
        <dt class="mono">{name}</dt>
        <dd class="mono">{value}</dd>
      {/each}
    </dl>
  {/if}
  <p class="soft end">
    Reference: <code>{reference(container)}</code>
    <CopyInline text={reference(container)} what="the reference" />
  </p>
</div>

<style>
  .evidence {
    margin-top: 0.4rem;
    font-size: 0.75rem;
    color: var(--cds-text-02);
  }
  .mount {
    margin-bottom: 0.4rem;
    overflow-wrap: anywhere;
  }
  .end {
    margin-top: 1.2rem;
  }
</style>
