<!-- Adding a host: name, address, for TCP the three certificates; test first, the one button at the end. -->
<script lang="ts">
  import { Button, InlineNotification, TextArea, TextInput } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import type { EngineFacts, LinkProblem } from "../../lib/types";

  let { ondone }: { ondone: () => void } = $props();

  let name = $state("");
  let address = $state("unix:///run/docker.sock");
  let ca = $state("");
  let certificate = $state("");
  let key = $state("");
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let tested = $state.raw<{ ok: boolean; engine?: EngineFacts; problem?: LinkProblem } | null>(null);
  let busy = $state(false);

  const overTcp = $derived(address.trim().startsWith("tcp://"));

  function body() {
    return { address: address.trim(), ...(overTcp ? { tls: { ca, certificate, key } } : {}) };
  }

  async function doing(what: () => Promise<void>) {
    busy = true;
    wrong = null;
    try {
      await what();
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  const test = () =>
    doing(async () => {
      tested = null;
      tested = await call("POST", "/api/v1/hosts/test", body());
    });

  const add = () =>
    doing(async () => {
      await call("POST", "/api/v1/hosts", { name: name.trim(), ...body() });
      ondone();
    });

  function at(...fields: string[]): boolean {
    return wrong?.field !== undefined && fields.includes(wrong.field);
  }
</script>

<form
  onsubmit={(event) => {
    event.preventDefault();
    void add();
  }}
>
  <TextInput
    id="host-name"
    labelText="Name"
    placeholder="packhouse"
    helperText="Letters, digits, dots and dashes"
    bind:value={name}
    invalid={at("/name")}
    invalidText={wrong?.text ?? ""}
  />
  <TextInput
    id="host-address"
    labelText="Engine's address"
    helperText="unix:///path for a socket on this machine, tcp://host:2376 for mutual TLS"
    bind:value={address}
    invalid={at("/address", "/tls")}
    invalidText={wrong?.text ?? ""}
  />
  {#if overTcp}
    <div class="pems">
      <TextArea
        id="host-ca"
        labelText="CA certificate (PEM)"
        rows={4}
        bind:value={ca}
        invalid={at("/tls/ca")}
        invalidText={wrong?.text ?? ""}
      />
      <TextArea
        id="host-certificate"
        labelText="Client certificate (PEM)"
        rows={4}
        bind:value={certificate}
        invalid={at("/tls/certificate")}
        invalidText={wrong?.text ?? ""}
      />
      <TextArea
        id="host-key"
        labelText="Client key (PEM); encrypted, never shown again"
        rows={4}
        bind:value={key}
        invalid={at("/tls/key")}
        invalidText={wrong?.text ?? ""}
      />
    </div>
  {/if}
  {#if wrong && !wrong.field}
    <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
  {/if}
  {#if tested?.ok}
    <InlineNotification
      kind="success"
      lowContrast
      hideCloseButton
      title={`${tested.engine?.kind} ${tested.engine?.version} answers on ${tested.engine?.machine}.`}
    />
  {:else if tested?.problem}
    <InlineNotification
      kind="error"
      lowContrast
      hideCloseButton
      title={tested.problem.sentence}
      subtitle={tested.problem.advice}
    />
  {/if}
  <div class="buttons">
    <Button kind="tertiary" disabled={busy} on:click={() => void test()}>Test</Button>
    <Button type="submit" disabled={busy || !name.trim()}>Add host</Button>
  </div>
</form>

<style>
  form {
    display: flex;
    flex-direction: column;
    gap: 1rem;
    max-width: 54rem;
    padding: 1.25rem;
    margin-bottom: 1.5rem;
    background: var(--panel);
    border: 1px solid var(--line);
  }
  .pems {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: 1rem;
  }
  .buttons {
    display: flex;
    gap: 0.75rem;
  }
</style>
