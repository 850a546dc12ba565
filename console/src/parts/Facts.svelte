<!-- The facts of one container: why it needs a person, then what it is made of. -->
<script lang="ts">
  import { call, sentence } from "../lib/api";
  import { age, moment, portWords, reference } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import type { Container, Detail, Variable } from "../lib/types";

  let { container }: { container: Container } = $props();

  let environment = $state.raw<Variable[] | null>(null);
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
        if (path === address) environment = detail.environment;
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

  const inner = $derived(container.ports.filter((p) => p.host_port === undefined));
</script>

<div class="facts">
  {#if container.attention}
    <div class="reason {container.attention.severity}">
      <strong>{container.attention.sentence}</strong>
      <div>{container.attention.advice}</div>
    </div>
  {/if}
  <dl>
    <dt>Image</dt>
    <dd class="mono">{container.image}</dd>
    <dt>Command</dt>
    <dd class="mono">{container.command || "–"}</dd>
    {#if container.stack}
      <dt>Stack</dt>
      <dd>{container.stack}{container.service ? ` / ${container.service}` : ""}</dd>
    {/if}
    <dt>Id</dt>
    <dd class="mono">{container.id.slice(0, 12)}</dd>
    <dt>Made</dt>
    <dd>{moment(container.created)} <span class="soft">({age(container.created, live.now)} ago)</span></dd>
    {#if container.started}
      <dt>Started</dt>
      <dd>{moment(container.started)} <span class="soft">({age(container.started, live.now)} ago)</span></dd>
    {/if}
    {#if container.finished && container.state !== "running"}
      <dt>Ended</dt>
      <dd>
        {moment(container.finished)} <span class="soft">({age(container.finished, live.now)} ago)</span>
        {#if container.exit_code !== undefined}with code {container.exit_code}{/if}
      </dd>
    {/if}
    <dt>Restarts</dt>
    <dd>{container.restart_count} <span class="soft">(policy {container.restart_policy})</span></dd>
    <dt>Networks</dt>
    <dd>{container.networks.join(", ") || "none"}</dd>
  </dl>

  <h3>Ports</h3>
  {#if container.ports.length === 0}
    <p class="soft">None.</p>
  {:else}
    <ul>
      {#each portWords(container.ports) as port (port)}<li class="mono">{port}</li>{/each}
      {#each inner as port (`${port.container_port}/${port.protocol}`)}
        <li class="mono soft">{port.container_port}/{port.protocol} (inside only)</li>
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
    <p class="soft">Fetching…</p>
  {:else if environment.length === 0}
    <p class="soft">None.</p>
  {:else}
    <dl class="narrow">
      {#each environment as variable, index (index)}
        <dt class="mono">{variable.name}</dt>
        <dd class="mono">
          {variable.value}
          {#if variable.masked}
            <button
              class="link"
              title="Showing it is written to the audit log"
              onclick={() => void reveal(variable.name)}>show</button
            >
          {/if}
        </dd>
      {/each}
    </dl>
  {/if}

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
  <p class="soft end">Reference: <code>{reference(container)}</code></p>
</div>

<style>
  .facts {
    overflow-y: auto;
    padding: 0.9rem 1rem 1.5rem;
    font-size: 0.8125rem;
  }
  .reason {
    padding: 0.6rem 0.75rem;
    margin-bottom: 0.9rem;
    border-left: 4px solid var(--state-failed);
    background: var(--cds-ui-background);
    overflow-wrap: anywhere;
  }
  .reason.warning {
    border-left-color: var(--state-halted);
  }
  dl {
    display: grid;
    grid-template-columns: 5.5rem minmax(0, 1fr);
    gap: 0.35rem 0.75rem;
  }
  dl.narrow {
    grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  }
  dt {
    color: var(--cds-text-02);
    overflow-wrap: anywhere;
  }
  dd {
    overflow-wrap: anywhere;
  }
  h3 {
    font-size: 0.8125rem;
    font-weight: 600;
    margin: 1.1rem 0 0.35rem;
    padding-top: 0.6rem;
    border-top: 1px solid var(--line);
  }
  .mount {
    margin-bottom: 0.4rem;
    overflow-wrap: anywhere;
  }
  .end {
    margin-top: 1.2rem;
  }
</style>
