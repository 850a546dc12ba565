<!-- Making a volume or a network on a host. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { OperationWish } from "../../lib/types";

  let { kind }: { kind: "volume" | "network" } = $props();

  let open = $state(false);
  let host = $state("");
  let name = $state("");
  let driver = $state("");
  let options = $state("");
  let subnet = $state("");
  let gateway = $state("");
  let internal = $state(false);
  let ipv6 = $state(false);

  const hosts = $derived(live.hosts.filter((h) => h.state === "live").map((h) => h.name));
  const pairs = $derived(
    Object.fromEntries(
      options
        .split(",")
        .map((p) => p.trim())
        .filter(Boolean)
        .map((p) => [p.split("=")[0]?.trim() ?? "", p.split("=").slice(1).join("=").trim()]),
    ),
  );

  function ask() {
    const base = {
      ...(driver.trim() ? { driver: driver.trim() } : {}),
      ...(options.trim() ? { options: pairs } : {}),
    };
    const targets = [`${host}/${name.trim()}`];
    const network = {
      ...base,
      internal,
      ipv6,
      ...(subnet.trim() ? { subnet: subnet.trim() } : {}),
      ...(gateway.trim() ? { gateway: gateway.trim() } : {}),
    };
    const request: OperationWish =
      kind === "volume"
        ? { kind: "make-volume", targets, volume: base }
        : { kind: "make-network", targets, network };
    pending.wish = {
      kind: request.kind,
      containers: [],
      title: `Make the ${kind} ${host}/${name.trim()}`,
      request,
      asked: () => ([open, name] = [false, ""]),
    };
  }
</script>

<button onclick={() => (open = !open)} aria-expanded={open}>Make a {kind}…</button>
{#if open}
  <form
    class="tools"
    data-test="new-thing"
    onsubmit={(e) => {
      e.preventDefault();
      ask();
    }}
  >
    <select aria-label="Host" bind:value={host}>
      <option value="">On which host</option>
      {#each hosts as h (h)}<option value={h}>{h}</option>{/each}
    </select>
    <input aria-label="Name" placeholder="name" bind:value={name} />
    <input
      aria-label="Driver"
      placeholder={kind === "volume" ? "driver: local" : "driver: bridge"}
      bind:value={driver}
    />
    <input aria-label="Options" placeholder="options: a=b, c=d" bind:value={options} />
    {#if kind === "network"}
      <input aria-label="Addresses" placeholder="addresses: 10.91.4.0/24" bind:value={subnet} />
      <input aria-label="Gateway" placeholder="gateway" bind:value={gateway} />
      <label><input type="checkbox" bind:checked={internal} /> no way out</label>
      <label><input type="checkbox" bind:checked={ipv6} /> IPv6</label>
    {/if}
    <Button size="small" type="submit" disabled={!host || !name.trim()}>Make it…</Button>
  </form>
{/if}

<style>
  form {
    width: 100%;
    padding-top: 0.4rem;
  }
</style>
