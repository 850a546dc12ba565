<!-- The member's own: profile, approvals, API tokens, sessions, password, second factor. What is set for all is on the Service page. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import {
    Button,
    Checkbox,
    CodeSnippet,
    InlineNotification,
    MultiSelect,
    NumberInput,
    TextInput,
  } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import type { Right } from "../../lib/types";
  import ScopePick from "../members/ScopePick.svelte";
  import ChangePassword from "./ChangePassword.svelte";
  import Approvals from "./Approvals.svelte";
  import ProfileForm from "./ProfileForm.svelte";
  import SecondFactor from "./SecondFactor.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";

  interface Token {
    id: number;
    name: string;
    created: string;
    expires?: string;
    last_used?: string;
    networks?: string[];
    bounds?: { scope: string; rights: string[] }[];
  }
  interface Session {
    id: number;
    created: string;
    address: string;
    current: boolean;
  }
  let tokens = $state.raw<Token[]>([]);
  let sessions = $state.raw<Session[]>([]);
  let name = $state("");
  let days = $state<number | null>(90);
  let networks = $state("");
  let cut = $state(false);
  let scope = $state("fleet");
  let rights = $state.raw<Right[]>(["see"]);
  let made = $state("");
  let wrong = $state("");

  async function guarded(what: () => Promise<unknown>) {
    try {
      wrong = "";
      await what();
    } catch (error) {
      wrong = sentence(error);
    }
  }

  const load = () =>
    guarded(async () => {
      [tokens, sessions] = await Promise.all([
        call<Token[]>("GET", "/api/v1/tokens"),
        call<Session[]>("GET", "/api/v1/sessions"),
      ]);
    });

  const make = () =>
    guarded(async () => {
      const from = networks.split(/[\s,]+/).filter(Boolean);
      const body = {
        name,
        ...(days ? { expires_in_days: days } : {}),
        ...(from.length > 0 ? { networks: from } : {}),
        ...(cut
          ? { bounds: [{ scope, rights: ["see", ...rights.filter((right) => right !== "see")] }] }
          : {}),
      };
      made = (await call<{ secret: string }>("POST", "/api/v1/tokens", body)).secret;
      [name, networks, cut] = ["", "", false];
      await load();
    });

  const end = (path: string) =>
    guarded(async () => {
      await call("DELETE", path);
      await load();
    });

  void load();
</script>

<h1>{session.member}</h1>
<ProfileForm />
<Approvals />
{#if wrong}
  <InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />
{/if}

<h2>API tokens</h2>
{#if tokens.length > 0}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="wide" tabindex="0" role="region" aria-label="Tokens">
    <Rows>
      <thead><tr><th>Name</th><th>Created</th><th>Last used</th><th>Expires</th><th>Action</th></tr></thead>
      <tbody>
        {#each tokens as token (token.id)}
          <tr>
            <td>
              {token.name}
              {#if token.bounds}<div class="soft">
                  {token.bounds.map((b) => `${b.rights.join(", ")} on ${b.scope}`).join("; ")}
                </div>{/if}
              {#if token.networks}<div class="soft">from {token.networks.join(", ")}</div>{/if}
            </td>
            <td>{age(token.created, live.now)} ago</td>
            <td>{token.last_used ? `${age(token.last_used, live.now)} ago` : "never"}</td>
            <td>{token.expires ? moment(token.expires) : "never"}</td>
            <td><InlineAction onclick={() => void end(`/api/v1/tokens/${token.id}`)}>Revoke</InlineAction></td
            >
          </tr>
        {/each}
      </tbody>
    </Rows>
  </div>
{:else}
  <p class="soft">None. A token lets a script or the command line act in your name.</p>
{/if}
{#if made}
  <InlineNotification
    kind="info"
    lowContrast
    hideCloseButton
    title="Copy the token now; it is not shown again."
  />
  <CodeSnippet code={made} />
{/if}
<form
  onsubmit={(event) => {
    event.preventDefault();
    void make();
  }}
>
  <TextInput id="token-name" labelText="Token name" bind:value={name} />
  <NumberInput
    id="token-days"
    labelText="Expires after (days)"
    helperText="Empty: never expires"
    allowEmpty
    min={1}
    max={3660}
    bind:value={days}
  />
  <TextInput
    id="token-networks"
    labelText="Allowed from"
    helperText="Addresses or networks such as 192.0.2.0/24; empty: from anywhere"
    bind:value={networks}
  />
  <div class="all">
    <Checkbox labelText="Limit it to some rights on part of the fleet" bind:checked={cut} />
    {#if cut}
      <div class="cut">
        <ScopePick id="token" {scope} onchange={(changed) => (scope = changed)} />
        <MultiSelect
          labelText="Rights"
          size="sm"
          label={rights.length === 0 ? "see" : rights.join(", ")}
          items={session.rights.map((right) => ({ id: right, text: right }))}
          selectedIds={rights}
          on:select={(event) => (rights = event.detail.selectedIds as Right[])}
        />
      </div>
    {/if}
  </div>
  <Button size="field" kind="tertiary" type="submit" disabled={!name.trim()}>Create token</Button>
</form>

<h2>Sessions</h2>
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="wide" tabindex="0" role="region" aria-label="Sessions">
  <Rows>
    <thead><tr><th>Signed in</th><th>From</th><th>Action</th></tr></thead>
    <tbody>
      {#each sessions as one (one.id)}
        <tr>
          <td>{moment(one.created)}</td>
          <td>{one.address}</td>
          <td>
            {#if one.current}<span class="soft">this session</span>{:else}
              <InlineAction onclick={() => void end(`/api/v1/sessions/${one.id}`)}>End</InlineAction>{/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </Rows>
</div>

<ChangePassword />
<SecondFactor />

<style>
  .all {
    grid-column: 1 / -1;
  }
  .cut {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(10rem, 1fr));
    gap: 0.75rem;
    align-items: end;
  }
  .wide {
    overflow-x: auto;
  }
  form {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(14rem, 100%), 1fr));
    max-width: 52rem;
    gap: 1rem;
    align-items: start;
    margin-top: 1rem;
  }
</style>
