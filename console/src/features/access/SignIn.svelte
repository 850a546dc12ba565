<!-- The sign-in page: claiming a new service, or signing in. -->
<script lang="ts">
  import { Button, InlineNotification, PasswordInput, TextInput } from "carbon-components-svelte";
  import { ApiError, call, keepKey, sentence } from "../../lib/api";
  import { session } from "../../lib/session.svelte";

  let code = $state("");
  let member = $state("");
  let password = $state("");
  /** A code of the second factor; asked for once the password was right. */
  let factor = $state("");
  let needsCode = $state(false);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  const claiming = $derived(session.state === "unclaimed");

  /** What a provider sent the browser back with: it is in the address once, and is taken out at once. */
  const back = new URLSearchParams(location.hash.slice(1));
  const brought = back.get("signed-in");
  let ticket = $state(brought);
  const REFUSED: Record<string, string> = {
    "no-grants": "Your groups grant you nothing here. Ask an admin to map one of them to a role.",
    "name-taken": "Another member has your name already. Ask an admin to rename or remove one of them.",
    denied: "The provider did not let you in.",
    stale: "That sign-in was used already, or took too long. Sign in again.",
    unavailable: "The provider does not answer. Try again in a moment, or sign in with a password.",
    failed: "Signing in at the provider failed. Ask an admin: the audit log says why.",
  };
  const refused = back.get("refused");
  if (refused) wrong = { text: REFUSED[refused] ?? "Signing in at the provider failed." };
  if (location.hash) history.replaceState(history.state, "", location.pathname + location.search);
  if (brought) void enter();

  async function enter(event?: SubmitEvent) {
    event?.preventDefault();
    busy = true;
    wrong = null;
    try {
      const path = claiming ? "/api/v1/claim" : ticket ? "/api/v1/openid/sessions" : "/api/v1/sessions";
      const who = ticket ? { ticket } : { member, password };
      const body = claiming ? { code, member, password } : { ...who, ...(factor ? { code: factor } : {}) };
      const me = await call<{ member: string; key?: string }>("POST", path, body);
      keepKey(me.key);
      session.enter(me.member);
    } catch (error) {
      if (error instanceof ApiError && error.problem.type.endsWith(":code-needed")) {
        needsCode = true;
        return;
      }
      if (ticket && !(error instanceof ApiError && error.problem.field === "/code")) ticket = null;
      wrong = {
        field: error instanceof ApiError ? error.problem.field : undefined,
        text: sentence(error),
      };
    } finally {
      busy = false;
    }
  }

  function at(field: string): boolean {
    return wrong?.field === field;
  }
</script>

<main class="enter">
  <form onsubmit={enter}>
    <p class="brand">Gubernum</p>
    {#if claiming}
      <h1>Claim this service</h1>
      <p class="soft">
        This service has no members yet. Enter the claim code that it printed at its start; it works once.
      </p>
      <TextInput
        id="code"
        labelText="Claim code"
        placeholder="XXXX-XXXX-XXXX-XXXX-XXXX"
        autocomplete="off"
        bind:value={code}
        invalid={at("/code")}
        invalidText={wrong?.text ?? ""}
      />
    {:else}
      <h1>Sign in</h1>
    {/if}
    {#if !ticket}
      <TextInput
        id="member"
        labelText="Member"
        autocomplete="username"
        bind:value={member}
        invalid={at("/member")}
        invalidText={wrong?.text ?? ""}
      />
      <PasswordInput
        tooltipAlignment="end"
        id="password"
        labelText="Password"
        autocomplete={claiming ? "new-password" : "current-password"}
        helperText={claiming ? "At least 12 characters; three or four unrelated words work well." : ""}
        bind:value={password}
        invalid={at("/password")}
        invalidText={wrong?.text ?? ""}
      />
    {/if}
    {#if needsCode && !claiming}
      <TextInput
        id="factor"
        labelText="Second-factor code"
        helperText="Six digits from your authenticator app, or a recovery code."
        autocomplete="one-time-code"
        bind:value={factor}
        invalid={at("/code")}
        invalidText={wrong?.text ?? ""}
      />
    {/if}
    {#if wrong && (!wrong.field || wrong.field === "/ticket")}
      <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
    {/if}
    <Button type="submit" disabled={busy}>{claiming ? "Claim and sign in" : "Sign in"}</Button>
    {#if session.openid && !claiming && !ticket}
      <Button kind="tertiary" href="/api/v1/openid/begin" data-test="openid"
        >Sign in with {session.openid}</Button
      >
    {/if}
  </form>
  <aside aria-hidden="true">
    <svg viewBox="0 0 400 600" preserveAspectRatio="xMidYMid slice">
      <g fill="none" stroke="#e8dfc8" stroke-width="1.5" opacity=".35">
        {#each [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] as row (row)}
          <path
            d={`M-20 ${80 + row * 60} C 90 ${20 + row * 58}, 250 ${150 + row * 55}, 430 ${50 + row * 62}`}
          />
        {/each}
      </g>
      <g fill="#e0b84c" opacity=".8">
        {#each [0, 1, 2, 3, 4, 5, 6] as dot (dot)}
          <rect x={60 + ((dot * 137) % 290)} y={110 + dot * 66} width="10" height="10" />
        {/each}
      </g>
    </svg>
  </aside>
</main>

<style>
  .enter {
    min-height: 100vh;
    display: grid;
    grid-template-columns: minmax(min(22rem, 100%), 34rem) 1fr;
  }
  form {
    align-self: center;
    padding: 2rem 3rem;
    display: flex;
    flex-direction: column;
    gap: 1.1rem;
  }
  .brand {
    font-weight: 600;
    color: var(--state-well);
    letter-spacing: 0.02em;
  }
  h1 {
    font-size: 1.75rem;
    margin: 0;
  }
  aside {
    background: #1c3d2a;
    position: relative;
  }
  aside svg {
    position: absolute;
    width: 100%;
    height: 100%;
  }
  @media (max-width: 50rem) {
    .enter {
      grid-template-columns: 1fr;
    }
    aside {
      display: none;
    }
  }
</style>
