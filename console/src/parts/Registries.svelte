<!-- Registries with their accounts, and settings of the whole service. -->
<script lang="ts">
  import {
    Button,
    Checkbox,
    InlineNotification,
    NumberInput,
    TextArea,
    TextInput,
  } from "carbon-components-svelte";
  import { call, sentence } from "../lib/api";
  import { age } from "../lib/format";
  import { live } from "../lib/live.svelte";

  interface Registry {
    address: string;
    account?: string;
    has_secret: boolean;
    has_ca: boolean;
    plain_http: boolean;
    member: string;
    added: string;
  }
  interface Preferences {
    kept_earlier: number;
    tidy_after_hours: number;
    safe_after_hours: number;
    cache_safe_after_hours: number;
    image_check_hours: number;
    record_terminals: boolean;
    browse_host_folders: boolean;
  }

  let all = $state.raw<Registry[]>([]);
  let preferences = $state<Preferences | null>(null);
  let wrong = $state("");
  let said = $state("");
  let busy = $state(false);
  let address = $state("");
  let account = $state("");
  let secret = $state("");
  let ca = $state("");
  let plain = $state(false);

  async function guarded(what: () => Promise<unknown>, done = "") {
    busy = true;
    try {
      await what();
      [wrong, said] = ["", done];
    } catch (error) {
      [wrong, said] = [sentence(error), ""];
    } finally {
      busy = false;
    }
  }

  const load = () =>
    guarded(async () => {
      [all, preferences] = await Promise.all([
        call<Registry[]>("GET", "/api/v1/registries"),
        call<Preferences>("GET", "/api/v1/preferences"),
      ]);
    });
  void load();

  const body = $derived({
    address: address.trim(),
    plain_http: plain,
    ...(account ? { account } : {}),
    ...(secret ? { secret } : {}),
    ...(ca ? { ca } : {}),
  });

  const set = () =>
    guarded(async () => {
      await call("PUT", "/api/v1/registries", body);
      [address, account, secret, ca, plain] = ["", "", "", "", false];
      all = await call<Registry[]>("GET", "/api/v1/registries");
    }, "It answers, and is set.");

  const remove = (r: Registry) =>
    guarded(async () => {
      await call("DELETE", `/api/v1/registries/${encodeURIComponent(r.address)}`);
      all = await call<Registry[]>("GET", "/api/v1/registries");
    });

  const save = () =>
    guarded(async () => {
      preferences = await call<Preferences>("PUT", "/api/v1/preferences", preferences);
    }, "The settings are kept.");
</script>

<h2>Registries</h2>
{#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
{#if said}<InlineNotification kind="success" lowContrast hideCloseButton title={said} />{/if}
{#if all.length > 0}
  <table class="rows" data-test="registries">
    <thead><tr><th>Address</th><th>Account</th><th>Way</th><th>Set by</th><th></th></tr></thead>
    <tbody>
      {#each all as r (r.address)}
        <tr>
          <td class="mono">{r.address}</td>
          <td>{r.account ?? "none"}</td>
          <td>{r.plain_http ? "plain HTTP" : r.has_ca ? "TLS with its own authority" : "TLS"}</td>
          <td class="soft">{r.member}, {age(r.added, live.now)} ago</td>
          <td><button class="link" disabled={busy} onclick={() => void remove(r)}>Forget</button></td>
        </tr>
      {/each}
    </tbody>
  </table>
{:else}
  <p class="soft">None is set. Public images and registries on the hosts themselves need none.</p>
{/if}
<form
  class="set"
  onsubmit={(e) => {
    e.preventDefault();
    void set();
  }}
>
  <TextInput size="sm" labelText="Address" placeholder="registry.example:5000" bind:value={address} />
  <TextInput size="sm" labelText="Account" autocomplete="off" bind:value={account} />
  <TextInput size="sm" type="password" labelText="Secret" autocomplete="new-password" bind:value={secret} />
  <Button size="small" type="submit" disabled={busy || !address.trim()}>Try and set</Button>
  <details>
    <summary>Certificate and plain HTTP</summary>
    <TextArea
      labelText="The authority that signed its certificate (PEM), where the usual ones did not"
      rows={3}
      bind:value={ca}
    />
    <Checkbox
      labelText="Speak with it without TLS: anybody on the way can read and change what is fetched"
      bind:checked={plain}
    />
  </details>
</form>
{#if preferences}
  <h2>Settings of the service</h2>
  <form
    class="set"
    onsubmit={(e) => {
      e.preventDefault();
      void save();
    }}
  >
    <NumberInput
      size="sm"
      labelText="Earlier states kept of each container"
      min={0}
      max={100}
      bind:value={preferences.kept_earlier}
    />
    <NumberInput
      size="sm"
      labelText="Hours unused before tidying offers a thing"
      min={0}
      max={8760}
      bind:value={preferences.tidy_after_hours}
    />
    <NumberInput
      size="sm"
      labelText="Hours unused before anything counts as safe to remove"
      min={0}
      max={8760}
      bind:value={preferences.safe_after_hours}
    />
    <NumberInput
      size="sm"
      labelText="Hours since its last use before the build cache does"
      min={0}
      max={8760}
      bind:value={preferences.cache_safe_after_hours}
    />
    <NumberInput
      size="sm"
      labelText="Hours between looks for newer images (0: never)"
      min={0}
      max={720}
      bind:value={preferences.image_check_hours}
    />
    <Button size="small" kind="tertiary" type="submit" disabled={busy}>Keep these</Button>
    <div class="switches">
      <Checkbox
        labelText="The audit log keeps the text of terminals, also what is typed without being shown"
        bind:checked={preferences.record_terminals}
      />
      <Checkbox
        labelText="Folders of hosts that containers mount may be browsed and changed"
        bind:checked={preferences.browse_host_folders}
      />
    </div>
  </form>
{/if}

<style>
  .set {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr)) auto;
    gap: 1rem;
    align-items: end;
    margin: 0.8rem 0 1rem;
    max-width: 62rem;
  }
  .switches,
  details {
    grid-column: 1 / -1;
    font-size: 0.8125rem;
  }
  summary {
    cursor: pointer;
    margin-bottom: 0.4rem;
  }
</style>
