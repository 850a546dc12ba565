<!-- Setting up one's own second factor, and removing it. -->
<script lang="ts">
  import {
    Button,
    CodeSnippet,
    InlineNotification,
    PasswordInput,
    TextInput,
  } from "carbon-components-svelte";
  import { encode } from "uqr";
  import { ApiError, call, sentence } from "../../lib/api";
  import { session } from "../../lib/session.svelte";
  import type { NewSecondFactor } from "../../lib/types";

  let password = $state("");
  let code = $state("");
  let begun = $state.raw<NewSecondFactor | null>(null);
  let recovery = $state.raw<string[]>([]);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  const squares = $derived(begun ? encode(begun.address, { border: 0 }).data : []);

  /** The dark squares as one path. */
  function dark(rows: boolean[][]): string {
    return rows.flatMap((row, y) => row.map((on, x) => (on ? `M${x} ${y}h1v1h-1z` : ""))).join("");
  }

  const PATH = "/api/v1/second-factor";

  async function doing(what: () => Promise<void>) {
    [busy, wrong] = [true, null];
    try {
      await what();
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  const begin = () =>
    doing(async () => {
      begun = await call<NewSecondFactor>("POST", PATH, { password });
      password = "";
    });

  const confirm = () =>
    doing(async () => {
      recovery = (await call<{ codes: string[] }>("PUT", PATH, { code })).codes;
      [begun, code] = [null, ""];
      await session.askRights();
    });

  const remove = () =>
    doing(async () => {
      await call("DELETE", PATH, { code });
      [code, recovery] = ["", []];
      await session.askRights();
    });

  function sent(event: SubmitEvent, what: () => Promise<void>) {
    event.preventDefault();
    void what();
  }
</script>

<h2>Second factor</h2>
{#if session.needsSecondFactor}
  <InlineNotification
    kind="warning"
    lowContrast
    hideCloseButton
    title="One of your roles requires a second factor."
    subtitle="Set one up: until then nothing is allowed."
  />
{/if}
{#if wrong && !wrong.field}<InlineNotification
    kind="error"
    lowContrast
    hideCloseButton
    title={wrong.text}
  />{/if}
{#if recovery.length > 0}
  <InlineNotification
    kind="info"
    lowContrast
    hideCloseButton
    title="Store these recovery codes where you can reach them without your phone."
    subtitle="Each works once instead of a code. They are not shown again."
  />
  <CodeSnippet type="multi" code={recovery.join("\n")} expanded />
{/if}
{#if begun}
  <p>
    Scan this with your authenticator app, <a href={begun.address}>open it there</a>, or enter the secret.
    Then enter the code that it shows.
  </p>
  <svg
    class="code"
    role="img"
    aria-label="QR code with the secret"
    viewBox={`-4 -4 ${squares.length + 8} ${squares.length + 8}`}
    shape-rendering="crispEdges"
  >
    <path d={dark(squares)} />
  </svg>
  <CodeSnippet code={begun.secret} />
  <form onsubmit={(event) => sent(event, confirm)}>
    <TextInput
      id="second-code"
      labelText="Code"
      autocomplete="one-time-code"
      bind:value={code}
      invalid={wrong?.field === "/code"}
      invalidText={wrong?.text ?? ""}
    />
    <Button size="field" kind="tertiary" type="submit" disabled={busy || !code.trim()}>Turn on</Button>
  </form>
{:else if session.hasSecondFactor}
  <p>Signing in needs your password and a code.</p>
  <form onsubmit={(event) => sent(event, remove)}>
    <TextInput
      id="second-code"
      labelText="Code or recovery code"
      autocomplete="one-time-code"
      bind:value={code}
      invalid={wrong?.field === "/code"}
      invalidText={wrong?.text ?? ""}
    />
    <Button size="field" kind="danger-tertiary" type="submit" disabled={busy || !code.trim()}>Turn off</Button
    >
  </form>
{:else}
  <p class="soft">With a second factor, a stolen password is not enough to sign in.</p>
  <form onsubmit={(event) => sent(event, begin)}>
    <PasswordInput
      tooltipAlignment="end"
      id="second-password"
      labelText="Your password"
      autocomplete="current-password"
      bind:value={password}
      invalid={wrong?.field === "/password"}
      invalidText={wrong?.text ?? ""}
    />
    <Button size="field" kind="tertiary" type="submit" disabled={busy || !password}
      >Set up second factor</Button
    >
  </form>
{/if}

<style>
  .code {
    display: block;
    width: 12rem;
    max-width: 100%;
    margin: 0.75rem 0;
    background: #fff;
  }
  form {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(14rem, 100%), 1fr));
    gap: 1rem;
    align-items: end;
    max-width: 36rem;
    margin: 0.8rem 0 1rem;
  }
</style>
