<!-- Published ports: the host's, the container's, the protocol. A taken one comes with the next that is free. -->
<script lang="ts">
  import type { Finding, PortRule } from "../../lib/types";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import RemoveButton from "../../ui/RemoveButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";
  import TextField from "../../ui/form/TextField.svelte";

  let {
    value,
    onchange,
    findings,
  }: { value: PortRule[]; onchange: (value: PortRule[]) => void; findings: Finding[] } = $props();

  const at = (n: number) =>
    findings.filter((f) => f.field === `/ports/${n}` || f.field.startsWith(`/ports/${n}/`));
  const LAST = 65_535;
  const PROTOCOLS = [
    ["tcp", "tcp"],
    ["udp", "udp"],
    ["sctp", "sctp"],
  ] as const;

  function set(n: number, change: Partial<PortRule>) {
    onchange(value.map((p, k) => (k === n ? { ...p, ...change } : p)));
  }
</script>

{#each value as port, n (n)}
  <div class="row" data-field={`/ports/${n}`}>
    <div data-field={`/ports/${n}/address`}>
      <TextField
        name={`Address of port ${n + 1}`}
        placeholder="all addresses"
        value={port.address ?? undefined}
        onchange={(address) => set(n, { address })}
      />
    </div>
    <div data-field={`/ports/${n}/host_port`}>
      <QuantityField
        kind="whole"
        most={LAST}
        name={`Host port ${n + 1}`}
        placeholder="any free"
        value={port.host_port}
        onchange={(host_port) => set(n, { host_port })}
      />
    </div>
    <span aria-hidden="true">→</span>
    <div data-field={`/ports/${n}/container_port`}>
      <QuantityField
        kind="whole"
        most={LAST}
        name={`Container port ${n + 1}`}
        placeholder="8080"
        value={port.container_port || undefined}
        onchange={(container_port) => set(n, { container_port: container_port ?? 0 })}
      />
    </div>
    <SelectField
      name={`Protocol of port ${n + 1}`}
      value={port.protocol}
      options={PROTOCOLS}
      onchange={(protocol) => set(n, { protocol })}
    />
    <RemoveButton name={`Remove port ${n + 1}`} onclick={() => onchange(value.filter((_, k) => k !== n))} />
  </div>
  {#each at(n) as f (f.sentence)}
    <p class={f.weight} role="alert" data-test="finding">
      <QuotedSentence text={f.sentence} />
      {#if f.proposal}
        <InlineAction onclick={() => set(n, { host_port: Number(f.proposal) })}>Use {f.proposal}</InlineAction
        >
      {/if}
    </p>
  {/each}
{/each}
<InlineAction onclick={() => onchange([...value, { container_port: 0, protocol: "tcp" }])}
  >Add a port</InlineAction
>

<style>
  .row {
    display: grid;
    grid-template-columns: 8rem 6rem 1rem 6rem 6rem 2rem;
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
