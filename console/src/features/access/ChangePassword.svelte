<!-- Changing one's own password. -->
<script lang="ts">
  import { Button, InlineNotification, PasswordInput } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";

  let current = $state("");
  let next = $state("");
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let said = $state(false);
  let busy = $state(false);

  async function change() {
    [busy, wrong, said] = [true, null, false];
    try {
      await call("POST", "/api/v1/password", { current, new: next });
      [current, next, said] = ["", "", true];
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }
</script>

<h2>Password</h2>
{#if said}
  <InlineNotification
    kind="success"
    lowContrast
    hideCloseButton
    title="Changed. Your other sessions have ended."
  />
{/if}
{#if wrong && !wrong.field}
  <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
{/if}
<form
  onsubmit={(event) => {
    event.preventDefault();
    void change();
  }}
>
  <PasswordInput
    tooltipAlignment="end"
    id="current-password"
    labelText="Current password"
    autocomplete="current-password"
    bind:value={current}
    invalid={wrong?.field === "/current"}
    invalidText={wrong?.text ?? ""}
  />
  <PasswordInput
    tooltipAlignment="end"
    id="next-password"
    labelText="New password"
    autocomplete="new-password"
    bind:value={next}
    invalid={wrong?.field === "/new"}
    invalidText={wrong?.text ?? ""}
  />
  <Button size="field" kind="tertiary" type="submit" disabled={busy || !current || !next}
    >Change password</Button
  >
</form>

<style>
  form {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(14rem, 100%), 1fr));
    gap: 1rem;
    align-items: end;
    max-width: 52rem;
    margin: 0.8rem 0 1rem;
  }
</style>
