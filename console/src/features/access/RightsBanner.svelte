<!-- Above every page: reduced, stepped-up or viewed-as rights of this session, and changes that wait for the member's approval. -->
<script lang="ts">
  import { Button, InlineNotification } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { live } from "../../lib/live.svelte";
  import { go } from "../../lib/router.svelte";
  import { session } from "../../lib/session.svelte";
  import { minute } from "../../lib/times.svelte";
  import { stepping } from "./stepUpRequest.svelte";

  let wrong = $state("");

  const stepped = $derived(
    session.steppedUntil && Date.parse(session.steppedUntil) > live.now ? session.steppedUntil : "",
  );

  async function end(path: string) {
    try {
      await call("DELETE", path);
      await session.askRights();
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }
</script>

{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
{#if session.viewAs}
  <InlineNotification
    kind="info"
    lowContrast
    hideCloseButton
    title={`You see the console as ${session.viewAs}.`}
    subtitle="It applies to this session, in every tab."
  >
    <svelte:fragment slot="actions">
      <Button size="small" kind="ghost" on:click={() => void end("/api/v1/view-as")}>Back to yourself</Button>
    </svelte:fragment>
  </InlineNotification>
{/if}
{#if stepped}
  <InlineNotification
    kind="info"
    lowContrast
    hideCloseButton
    title={`You have stepped up until ${minute(stepped)}.`}
    subtitle={session.worksAs ? `Afterwards you work as ${session.worksAs} again.` : ""}
  >
    <svelte:fragment slot="actions">
      <Button size="small" kind="ghost" on:click={() => void end("/api/v1/step-up")}>End it now</Button>
    </svelte:fragment>
  </InlineNotification>
{:else if session.worksAs && !session.viewAs}
  <InlineNotification
    kind="info"
    lowContrast
    hideCloseButton
    title={`You work as ${session.worksAs}.`}
    subtitle="Step up when you need the rest of your rights."
  >
    <svelte:fragment slot="actions">
      <Button
        size="small"
        kind="ghost"
        on:click={() =>
          void stepping.ask("You get all your rights for a while. This is recorded in the audit log.")}
        >Step up</Button
      >
    </svelte:fragment>
  </InlineNotification>
{/if}
{#if session.toApprove > 0}
  <InlineNotification
    kind="warning"
    lowContrast
    hideCloseButton
    title={session.toApprove === 1
      ? "A change waits for your approval."
      : `${session.toApprove} changes wait for your approval.`}
  >
    <svelte:fragment slot="actions">
      <Button size="small" kind="ghost" on:click={() => go("/account")}>Review</Button>
    </svelte:fragment>
  </InlineNotification>
{/if}
