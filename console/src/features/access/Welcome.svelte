<!-- What somebody sees who opens a link: a new member, or one who chooses another password. -->
<script lang="ts">
  import { Button, InlineNotification, PasswordInput } from "carbon-components-svelte";
  import { ApiError, call, keepKey, sentence } from "../../lib/api";
  import { moment } from "../../lib/format";
  import type { Welcome } from "../../lib/types";

  // The secret is behind the `#`, which browsers send nowhere.
  const secret = location.hash.slice(1);

  let welcome = $state.raw<Welcome | null>(null);
  let password = $state("");
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

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

  void doing(async () => {
    welcome = await call<Welcome>("POST", "/api/v1/invitations/show", { secret });
  });

  const accept = () =>
    doing(async () => {
      const me = await call<{ key?: string }>("POST", "/api/v1/invitations/accept", {
        secret,
        password,
      });
      keepKey(me.key);
      // Started afresh: another member may have been signed in here.
      location.assign("/");
    });
</script>

<main class="welcome">
  <p class="brand">Gubernum</p>
  {#if welcome}
    <h1>{welcome.is_reset ? `A new password for ${welcome.name}` : `Welcome, ${welcome.name}`}</h1>
    <p class="soft">
      {welcome.giver} gave you this link. It works once and expires {moment(welcome.expires)}.
    </p>
    <form
      onsubmit={(event) => {
        event.preventDefault();
        void accept();
      }}
    >
      <!-- For password managers. -->
      <input type="text" name="username" autocomplete="username" value={welcome.name} readonly hidden />
      <PasswordInput
        tooltipAlignment="end"
        id="new-password"
        labelText="Choose a password"
        autocomplete="new-password"
        helperText="At least 12 characters; three or four unrelated words work well."
        bind:value={password}
        invalid={wrong?.field === "/password"}
        invalidText={wrong?.text ?? ""}
      />
      <Button type="submit" disabled={busy || !password}>Set password and sign in</Button>
    </form>
  {:else if !wrong}
    <p>Checking the link…</p>
  {/if}
  {#if wrong && !wrong.field}
    <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
    <p><a href="/">Sign in</a></p>
  {/if}
</main>

<style>
  .welcome {
    box-sizing: border-box;
    width: 100%;
    max-width: 34rem;
    margin: 0 auto;
    padding: 4rem 1.5rem;
    display: flex;
    flex-direction: column;
    gap: 1rem;
  }
  form {
    display: flex;
    flex-direction: column;
    align-items: flex-start;
    gap: 1.1rem;
  }
  form > :global(.bx--form-item) {
    width: 100%;
  }
  .brand {
    font-weight: 600;
    color: var(--state-well);
  }
  h1 {
    font-size: 1.75rem;
    margin: 0;
  }
</style>
