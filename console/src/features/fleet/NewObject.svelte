<!-- Creates a volume or a network on a host. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { OperationWish } from "../../lib/types";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

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
        ? { kind: "create-volume", targets, volume: base }
        : { kind: "create-network", targets, network };
    pending.wish = {
      kind: request.kind,
      containers: [],
      title: `Create the ${kind} ${host}/${name.trim()}`,
      request,
      asked: () => ([open, name] = [false, ""]),
    };
  }
</script>

<ToolButton onclick={() => (open = !open)} aria-expanded={open}>Create a {kind}…</ToolButton>
{#if open}
  <form
    class="tools"
    data-test="new-thing"
    onsubmit={(e) => {
      e.preventDefault();
      ask();
    }}
  >
    <SelectField
      name="Host"
      value={host}
      options={[["", "Choose a host"], ...hosts.map((h): [string, string] => [h, h])]}
      onchange={(next) => (host = next)}
    />
    <TextField name="Name" placeholder="name" value={name} onchange={(text) => (name = text ?? "")} />
    <TextField
      name="Driver"
      placeholder={kind === "volume" ? "driver: local" : "driver: bridge"}
      value={driver}
      onchange={(text) => (driver = text ?? "")}
    />
    <TextField
      name="Options"
      placeholder="options: a=b, c=d"
      value={options}
      onchange={(text) => (options = text ?? "")}
    />
    {#if kind === "network"}
      <TextField
        name="Addresses"
        placeholder="addresses: 10.91.4.0/24"
        value={subnet}
        onchange={(text) => (subnet = text ?? "")}
      />
      <TextField
        name="Gateway"
        placeholder="gateway"
        value={gateway}
        onchange={(text) => (gateway = text ?? "")}
      />
      <CheckField
        label="internal: no external access"
        value={internal}
        onchange={(next) => (internal = next)}
      />
      <CheckField label="IPv6" value={ipv6} onchange={(next) => (ipv6 = next)} />
    {/if}
    <Button size="small" type="submit" disabled={!host || !name.trim()}>Create…</Button>
  </form>
{/if}

<style>
  form {
    width: 100%;
    padding-top: 0.4rem;
  }
</style>
