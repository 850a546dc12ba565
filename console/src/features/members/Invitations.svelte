<!-- Inviting somebody by a link, and the links that wait to be used. -->
<script lang="ts">
  import { Button, CodeSnippet, InlineNotification, TextInput, Tile } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import { moment } from "../../lib/format";
  import type { Grant, Invitation, CreatedInvitation, Role } from "../../lib/types";
  import Grants from "./Grants.svelte";
  import { link, words } from "./members";

  let { roles }: { roles: Role[] } = $props();

  let waiting = $state.raw<Invitation[]>([]);
  let name = $state("");
  let grants = $state.raw<Grant[]>([{ role: "viewer", scope: "fleet" }]);
  let made = $state.raw<CreatedInvitation | null>(null);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  async function guarded(what: () => Promise<unknown>) {
    busy = true;
    wrong = null;
    try {
      await what();
      waiting = await call<Invitation[]>("GET", "/api/v1/invitations");
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  void guarded(async () => {});

  const invite = () =>
    guarded(async () => {
      made = await call<CreatedInvitation>("POST", "/api/v1/invitations", { name: name.trim(), grants });
      name = "";
    });
</script>

<form
  onsubmit={(event) => {
    event.preventDefault();
    void invite();
  }}
>
  <TextInput
    id="invited-name"
    size="sm"
    labelText="Name of the new member"
    bind:value={name}
    invalid={wrong?.field === "/name"}
    invalidText={wrong?.text ?? ""}
  />
  <Grants id="invited" {grants} {roles} onchange={(all) => (grants = all)} />
  {#if wrong && wrong.field !== "/name"}
    <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
  {/if}
  <Button size="small" type="submit" disabled={busy || !name.trim()}>Create link</Button>
</form>
{#if made}
  <Tile>
    <p>
      Give this link to {made.name}. It works once, expires {moment(made.expires)} and is not shown again.
    </p>
    <CodeSnippet code={link(location.origin, made.path)} />
  </Tile>
{/if}

<h2>Open invitations</h2>
{#each waiting as one (one.id)}
  <div class="waiting">
    <span>
      <strong>{one.name}</strong>
      {one.is_reset ? "chooses a new password" : one.grants.map(words).join("; ") || "no grants"}
      <span class="soft">from {one.giver}, expires {moment(one.expires)}</span>
    </span>
    <Button
      size="small"
      kind="ghost"
      disabled={busy}
      on:click={() => void guarded(() => call("DELETE", `/api/v1/invitations/${one.id}`))}>Revoke</Button
    >
  </div>
{:else}
  <p class="soft">None.</p>
{/each}

<style>
  form {
    display: flex;
    flex-direction: column;
    align-items: flex-start;
    gap: 0.75rem;
    max-width: 52rem;
    margin-bottom: 1rem;
  }
  form > :global(*) {
    width: 100%;
  }
  form > :global(button) {
    width: auto;
  }
  h2 {
    font-size: 1rem;
    margin: 1.25rem 0 0.5rem;
  }
  .waiting {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    align-items: center;
    gap: 0.25rem 1rem;
    max-width: 52rem;
    border-bottom: 1px solid var(--line);
  }
</style>
