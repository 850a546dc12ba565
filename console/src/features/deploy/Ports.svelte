<!-- Published ports: the host's, the container's, the protocol. A taken one comes with the next that is free. -->
<script lang="ts">
  import type { Finding, PortRule } from "../../lib/types";
  import Said from "../exec/Said.svelte";
  import Size from "../../ui/form/Size.svelte";

  let {
    value,
    onchange,
    findings,
  }: { value: PortRule[]; onchange: (value: PortRule[]) => void; findings: Finding[] } = $props();

  const at = (n: number) =>
    findings.filter((f) => f.field === `/ports/${n}` || f.field.startsWith(`/ports/${n}/`));
  const LAST = 65_535;

  function set(n: number, change: Partial<PortRule>) {
    onchange(value.map((p, k) => (k === n ? { ...p, ...change } : p)));
  }
</script>

{#each value as port, n (n)}
  <div class="row">
    <input
      aria-label={`Address of port ${n + 1}`}
      placeholder="all addresses"
      value={port.address ?? ""}
      oninput={(e) => set(n, { address: e.currentTarget.value || undefined })}
    />
    <div>
      <Size
        kind="whole"
        most={LAST}
        name={`Host port ${n + 1}`}
        placeholder="any free"
        value={port.host_port}
        onchange={(host_port) => set(n, { host_port })}
      />
    </div>
    <span aria-hidden="true">→</span>
    <div>
      <Size
        kind="whole"
        most={LAST}
        name={`Container port ${n + 1}`}
        placeholder="8080"
        value={port.container_port || undefined}
        onchange={(container_port) => set(n, { container_port: container_port ?? 0 })}
      />
    </div>
    <select
      aria-label={`Protocol of port ${n + 1}`}
      value={port.protocol}
      onchange={(e) => set(n, { protocol: e.currentTarget.value })}
    >
      <option value="tcp">tcp</option><option value="udp">udp</option><option value="sctp">sctp</option>
    </select>
    <button
      type="button"
      class="away"
      aria-label={`Take port ${n + 1} away`}
      onclick={() => onchange(value.filter((_, k) => k !== n))}>×</button
    >
  </div>
  {#each at(n) as f (f.sentence)}
    <p class={f.weight} role="alert" data-test="finding">
      <Said text={f.sentence} />
      {#if f.proposal}
        <button type="button" class="link" onclick={() => set(n, { host_port: Number(f.proposal) })}
          >Use {f.proposal}</button
        >
      {/if}
    </p>
  {/each}
{/each}
<button
  type="button"
  class="link"
  onclick={() => onchange([...value, { container_port: 0, protocol: "tcp" }])}>Add a port</button
>

<style>
  .row {
    display: grid;
    grid-template-columns: 8rem 6rem 1rem 6rem 4.5rem 1.6rem;
    gap: 0.3rem;
    align-items: start;
    margin-bottom: 0.3rem;
    --field-width: 100%;
  }
  .error {
    color: var(--state-failed);
    font-size: 0.75rem;
    margin: 0 0 0.3rem;
  }
  .warning {
    color: var(--state-halted);
    font-size: 0.75rem;
    margin: 0 0 0.3rem;
  }
</style>
