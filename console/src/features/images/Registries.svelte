<!-- Registries with their accounts. Settings of the whole service are in Preferences.svelte. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button, Checkbox, InlineNotification, TextArea, TextInput } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";

  interface Registry {
    address: string;
    account?: string;
    has_secret: boolean;
    has_ca: boolean;
    plain_http: boolean;
    member: string;
    added: string;
  }

  let all = $state.raw<Registry[]>([]);
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
      all = await call<Registry[]>("GET", "/api/v1/registries");
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
    }, "Connected and saved.");

  const remove = (r: Registry) =>
    guarded(async () => {
      await call("DELETE", `/api/v1/registries/${encodeURIComponent(r.address)}`);
      all = await call<Registry[]>("GET", "/api/v1/registries");
    });
</script>

<h2>Registries</h2>
{#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
{#if said}<InlineNotification kind="success" lowContrast hideCloseButton title={said} />{/if}
{#if all.length > 0}
  <Rows data-test="registries">
    <thead><tr><th>Address</th><th>Account</th><th>Connection</th><th>Set by</th><th></th></tr></thead>
    <tbody>
      {#each all as r (r.address)}
        <tr>
          <td class="mono">{r.address}</td>
          <td>{r.account ?? "none"}</td>
          <td>{r.plain_http ? "plain HTTP" : r.has_ca ? "TLS, own CA" : "TLS"}</td>
          <td class="soft">{r.member}, {age(r.added, live.now)} ago</td>
          <td><InlineAction disabled={busy} onclick={() => void remove(r)}>Remove</InlineAction></td>
        </tr>
      {/each}
    </tbody>
  </Rows>
{:else}
  <p class="soft">None. Public images and registries on the hosts need no account.</p>
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
  <Button size="small" type="submit" disabled={busy || !address.trim()}>Test and save</Button>
  <details>
    <summary>Certificate and plain HTTP</summary>
    <TextArea labelText="CA certificate (PEM), if it is not a public one" rows={3} bind:value={ca} />
    <Checkbox
      labelText="Use plain HTTP: anybody on the network can read and change what is pulled"
      bind:checked={plain}
    />
  </details>
</form>

<style>
  .set {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(12rem, 1fr));
    gap: 1rem;
    align-items: end;
    margin: 0.8rem 0 1rem;
    max-width: 62rem;
  }
  details {
    grid-column: 1 / -1;
    font-size: 0.8125rem;
  }
  summary {
    cursor: pointer;
    margin-bottom: 0.4rem;
  }
</style>
