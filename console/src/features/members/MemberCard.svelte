<!-- One member: what it is granted and what follows from that, what it has open, and what can be done about it. -->
<script lang="ts">
  import { Button, CodeSnippet, InlineNotification, Modal } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import type { Grant, CreatedInvitation, Member, MemberDetail, Role } from "../../lib/types";
  import Grants from "./Grants.svelte";
  import { link, same, words } from "./members";

  let { member, roles, onchanged }: { member: Member; roles: Role[]; onchanged: () => Promise<void> } =
    $props();

  let detail = $state.raw<MemberDetail | null>(null);
  let wanted = $state.raw<Grant[] | null>(null);
  let made = $state.raw<CreatedInvitation | null>(null);
  let wrong = $state("");
  let said = $state("");
  let busy = $state(false);
  let asked = $state<"deactivate" | "remove" | null>(null);

  const grants = $derived(wanted ?? member.grants);
  const path = $derived(`/api/v1/members/${member.id}`);

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

  async function load() {
    detail = await call<MemberDetail>("GET", path);
  }

  void guarded(load);

  const save = () =>
    guarded(async () => {
      await call("PATCH", path, { grants });
      wanted = null;
      await onchanged();
      await load();
    }, "Grants saved.");

  const setDeactivated = (deactivated: boolean) =>
    guarded(async () => {
      await call("PATCH", path, { deactivated });
      await onchanged();
      await load();
    });

  const reset = () =>
    guarded(async () => {
      made = await call<CreatedInvitation>("POST", `${path}/reset`);
    });

  const takeFactor = () =>
    guarded(async () => {
      await call("PATCH", path, { second_factor: false });
      await onchanged();
    }, "Second factor removed.");

  const endSessions = () =>
    guarded(async () => {
      await call("DELETE", `${path}/sessions`);
      await load();
    }, "All sessions have ended.");

  const remove = () =>
    guarded(async () => {
      await call("DELETE", path);
      await onchanged();
    });

  function confirmed() {
    const what = asked;
    asked = null;
    void (what === "remove" ? remove() : setDeactivated(true));
  }
</script>

{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
{#if said}<InlineNotification kind="success" lowContrast title={said} on:close={() => (said = "")} />{/if}

<h2>Granted</h2>
<Grants id={`member-${member.id}`} {grants} {roles} onchange={(all) => (wanted = all)} />
{#if wanted && !same(wanted, member.grants)}
  <div class="buttons">
    <Button size="small" disabled={busy} on:click={() => void save()}>Save grants</Button>
    <Button size="small" kind="ghost" on:click={() => (wanted = null)}>Discard changes</Button>
  </div>
{/if}

{#if detail}
  <h2>Rights</h2>
  <dl>
    {#each detail.rights as right (right.right)}
      <dt class:none={right.by.length === 0}>{right.right}</dt>
      <dd class:none={right.by.length === 0}>
        {right.by.length === 0
          ? "no"
          : right.by
              .map((grant) => `${words(grant)}${grant.from.startsWith("group:") ? ` (${grant.from})` : ""}`)
              .join("; ")}
      </dd>
    {/each}
  </dl>
  <h2>Open</h2>
  <p>
    {detail.sessions.length === 1 ? "1 session" : `${detail.sessions.length} sessions`}{detail.sessions[0]
      ? `, the newest ${age(detail.sessions[0].created, live.now)} old, from ${detail.sessions[0].address}`
      : ""};
    {detail.tokens.length === 1 ? "1 token" : `${detail.tokens.length} tokens`}.
  </p>
{/if}

{#if made}
  <p>Give this link to {member.name}. It works once and is not shown again.</p>
  <CodeSnippet code={link(location.origin, made.path)} />
{/if}
<div class="buttons">
  {#if !member.directory}
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void reset()}
      >Password reset link</Button
    >
  {/if}
  <Button size="small" kind="tertiary" disabled={busy} on:click={() => void endSessions()}
    >End all sessions</Button
  >
  {#if member.second_factor}
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void takeFactor()}
      >Remove second factor</Button
    >
  {/if}
  {#if member.deactivated}
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void setDeactivated(false)}
      >Reactivate</Button
    >
  {:else}
    <Button size="small" kind="danger-tertiary" disabled={busy} on:click={() => (asked = "deactivate")}
      >Deactivate…</Button
    >
  {/if}
  <Button size="small" kind="danger-tertiary" disabled={busy} on:click={() => (asked = "remove")}
    >Remove…</Button
  >
</div>

<Modal
  danger
  size="sm"
  open={asked !== null}
  modalHeading={asked === "remove" ? `Remove ${member.name}?` : `Deactivate ${member.name}?`}
  primaryButtonText={asked === "remove" ? "Remove" : "Deactivate"}
  secondaryButtonText="Cancel"
  on:click:button--secondary={() => (asked = null)}
  on:close={() => (asked = null)}
  on:submit={confirmed}
>
  <p>
    {asked === "remove"
      ? "Sessions and tokens end at once. What was done stays in the audit log; the name is free again."
      : "Sessions and tokens end at once, and sign-in is refused until the member is reactivated. Grants stay."}
  </p>
</Modal>

<style>
  h2 {
    font-size: 0.875rem;
    margin: 1rem 0 0.5rem;
  }
  dl {
    display: grid;
    grid-template-columns: minmax(7rem, auto) 1fr;
    gap: 0.15rem 1rem;
    max-width: 52rem;
  }
  .none {
    color: var(--cds-text-02);
  }
  .buttons {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    margin: 0.9rem 0 0.25rem;
  }
</style>
