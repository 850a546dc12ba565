<!-- Asks the member for the password or a code: before guarded changes, and to step up to all rights. -->
<script lang="ts">
  import { InlineNotification, Modal, NumberInput, PasswordInput, TextInput } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import { session } from "../../lib/session.svelte";
  import { stepping } from "./stepUpRequest.svelte";

  let password = $state("");
  let code = $state("");
  let minutes = $state<number | null>(15);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  const ready = $derived(password !== "" || code.trim() !== "");

  function close(stepped: boolean) {
    [password, code, wrong] = ["", "", null];
    stepping.over(stepped);
  }

  async function show() {
    [busy, wrong] = [true, null];
    try {
      const shown = code.trim() ? { code } : { password };
      await call("POST", "/api/v1/step-up", { ...shown, minutes: minutes ?? 15 });
      await session.askRights();
      close(true);
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }
</script>

{#if stepping.why}
  <Modal
    open
    size="xs"
    modalHeading="Step up"
    primaryButtonText="Step up"
    primaryButtonDisabled={busy || !ready}
    secondaryButtonText="Cancel"
    selectorPrimaryFocus={session.hasSecondFactor ? "#step-code" : "#step-password"}
    on:click:button--secondary={() => close(false)}
    on:close={() => close(false)}
    on:submit={() => void show()}
  >
    <p>{stepping.why}</p>
    <form
      class="fields"
      onsubmit={(event) => {
        event.preventDefault();
        if (ready) void show();
      }}
    >
      {#if session.hasSecondFactor}
        <TextInput
          id="step-code"
          labelText="Second-factor code"
          autocomplete="one-time-code"
          bind:value={code}
          invalid={wrong?.field === "/code"}
          invalidText={wrong?.text ?? ""}
        />
      {/if}
      <PasswordInput
        id="step-password"
        labelText={session.hasSecondFactor ? "Or your password" : "Your password"}
        autocomplete="current-password"
        bind:value={password}
        invalid={wrong?.field === "/password"}
        invalidText={wrong?.text ?? ""}
      />
      <NumberInput
        id="step-minutes"
        size="sm"
        labelText="Minutes"
        min={1}
        max={60}
        bind:value={minutes}
        invalid={wrong?.field === "/minutes"}
        invalidText={wrong?.text ?? ""}
      />
      <button type="submit" hidden aria-hidden="true" tabindex="-1">Step up</button>
    </form>
    {#if wrong && !wrong.field}
      <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
    {/if}
  </Modal>
{/if}

<style>
  .fields {
    display: grid;
    gap: 1rem;
    margin-top: 1rem;
  }
</style>
