<!-- Dangerous changes that wait for a second member: what one may decide, and what one asked for oneself. -->
<script lang="ts">
  import { Button, InlineNotification, Tag } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import type { Approval } from "../../lib/types";

  let all = $state.raw<Approval[]>([]);
  let wrong = $state("");
  let busy = $state(false);

  const waiting = $derived(all.filter((one) => !one.decided));
  const decided = $derived(all.filter((one) => one.decided));

  async function load() {
    all = await call<Approval[]>("GET", "/api/v1/approvals");
  }

  async function guarded(what: () => Promise<unknown>) {
    [busy, wrong] = [true, ""];
    try {
      await what();
      await load();
      await session.askRights();
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }

  const decide = (one: Approval, approve: boolean) =>
    guarded(() => call("POST", `/api/v1/approvals/${one.id}`, { approve }));

  function outcome(one: Approval): string {
    const word = one.approved ? "approved" : "refused";
    return `${word} by ${one.decided_by ?? ""}${one.used && one.approved ? ", and done" : ""}`;
  }

  // What waits changes without us: look again when that is reported.
  $effect(() => {
    void session.toApprove;
    load().catch((error: unknown) => (wrong = sentence(error)));
  });
</script>

{#if all.length > 0 || wrong}
  <h2 id="approvals">Approvals</h2>
  {#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
  <ul data-test="approvals">
    {#each [...waiting, ...decided] as one (one.id)}
      <li>
        <div class="head">
          <Tag size="sm" type={one.decided ? "gray" : "magenta"}>{one.danger}</Tag>
          <strong>{one.member === session.member ? "You" : one.member}</strong>
          <span class="soft">{age(one.created, live.now)} ago, number {one.id}</span>
        </div>
        <pre>{one.detail}</pre>
        <div class="head">
          {#if one.yours_to_decide}
            <Button size="small" disabled={busy} on:click={() => void decide(one, true)}>Approve</Button>
            <Button
              size="small"
              kind="danger-tertiary"
              disabled={busy}
              on:click={() => void decide(one, false)}>Refuse</Button
            >
          {:else if one.decided}
            <span class="soft">{outcome(one)}</span>
            {#if one.approved && !one.used && one.member === session.member}
              <span>Repeat the change: it is approved now.</span>
            {/if}
          {:else}
            <span class="soft">waiting for a second member</span>
            {#if one.member === session.member}
              <Button
                size="small"
                kind="ghost"
                disabled={busy}
                on:click={() => void guarded(() => call("DELETE", `/api/v1/approvals/${one.id}`))}
                >Withdraw</Button
              >
            {/if}
          {/if}
        </div>
      </li>
    {/each}
  </ul>
{/if}

<style>
  ul {
    max-width: 52rem;
  }
  li {
    padding: 0.5rem 0;
    border-bottom: 1px solid var(--line);
  }
  .head {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: center;
  }
  pre {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.8125rem;
    margin: 0.25rem 0;
  }
</style>
