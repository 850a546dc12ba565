<!-- How the service keeps its records: where the audit log is sent, and the key that seals secrets. -->
<script lang="ts">
  import {
    Button,
    InlineNotification,
    NumberInput,
    Select,
    SelectItem,
    TextArea,
    TextInput,
  } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import type { SyslogState } from "../../lib/types";

  const PATH = "/api/v1/syslog";

  let shown = $state.raw<SyslogState | null>(null);
  let host = $state("");
  let port = $state<number | null>(null);
  let transport = $state<"tls" | "tcp">("tls");
  let ca = $state("");
  let sealed = $state<number | null>(null);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  async function guarded(what: () => Promise<unknown>) {
    [busy, wrong] = [true, null];
    try {
      await what();
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  function take(told: SyslogState) {
    shown = told;
    const settings = told.settings;
    [host, port, ca] = [settings?.host ?? "", settings?.port ?? null, settings?.ca ?? ""];
    transport = settings?.transport ?? "tls";
  }

  const load = () => guarded(async () => take(await call<SyslogState>("GET", PATH)));

  const set = () =>
    guarded(async () => {
      const body = { host, transport, ...(port ? { port } : {}), ...(transport === "tls" ? { ca } : {}) };
      take(await call<SyslogState>("PUT", PATH, body));
    });

  const stop = () =>
    guarded(async () => {
      await call("DELETE", PATH);
      take(await call<SyslogState>("GET", PATH));
    });

  const rotate = () =>
    guarded(async () => {
      sealed = (await call<{ sealed: number }>("POST", "/api/v1/seal-rotations")).sealed;
    });

  void load();

  const invalid = (field: string) => wrong?.field === field;
</script>

<h2>Audit log to syslog</h2>
{#if wrong && !wrong.field}<InlineNotification
    kind="error"
    lowContrast
    hideCloseButton
    title={wrong.text}
  />{/if}
{#if shown?.settings}
  <p>
    Sent to {shown.settings.host}; {shown.waiting}
    {shown.waiting === 1 ? "entry waits" : "entries wait"}.
    {#if shown.failed}<span class="bad">Not sending: {shown.failed}.</span>{/if}
  </p>
{:else}
  <p class="soft">
    Not sent anywhere. A collector on another machine protects it from whoever controls this one.
  </p>
{/if}
<form
  onsubmit={(event) => {
    event.preventDefault();
    void set();
  }}
>
  <TextInput
    id="syslog-host"
    labelText="Collector"
    placeholder="a name or an address"
    bind:value={host}
    invalid={invalid("/host")}
    invalidText={wrong?.text ?? ""}
  />
  <Select id="syslog-transport" labelText="Transport" bind:selected={transport}>
    <SelectItem value="tls" text="TLS" />
    <SelectItem value="tcp" text="TCP (unencrypted)" />
  </Select>
  <NumberInput
    id="syslog-port"
    labelText="Port"
    helperText={transport === "tls" ? "6514 when empty" : "601 when empty"}
    allowEmpty
    min={1}
    max={65_535}
    bind:value={port}
  />
  {#if transport === "tls"}
    <div class="all">
      <TextArea
        id="syslog-ca"
        labelText="CA certificates (PEM)"
        rows={3}
        bind:value={ca}
        invalid={invalid("/ca")}
        invalidText={wrong?.text ?? ""}
      />
    </div>
  {/if}
  <div class="all">
    <Button size="small" kind="tertiary" type="submit" disabled={busy || !host.trim()}
      >Send to this collector</Button
    >
    {#if shown?.settings}
      <Button size="small" kind="ghost" disabled={busy} on:click={() => void stop()}>Stop sending</Button>
    {/if}
  </div>
</form>

<h2>Encryption key</h2>
<p class="soft">
  Secrets are sealed with the key in seal.key. Rotating replaces it without downtime. Earlier backups need the
  earlier key.
</p>
{#if sealed !== null}
  <InlineNotification
    kind="success"
    lowContrast
    hideCloseButton
    title={`Key rotated; ${sealed} secrets re-sealed.`}
  />
{/if}
<Button size="small" kind="tertiary" disabled={busy} on:click={() => void rotate()}>Rotate key</Button>

<style>
  form {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(14rem, 100%), 1fr));
    max-width: 52rem;
    gap: 1rem;
    align-items: start;
    margin: 1rem 0;
  }
  .all {
    grid-column: 1 / -1;
  }
  .bad {
    color: var(--state-failed);
  }
</style>
