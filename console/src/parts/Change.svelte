<!-- Before a change: what it does to each target, its few settings, and the one button at the end. -->
<script lang="ts">
  import {
    Checkbox,
    InlineNotification,
    Modal,
    NumberInput,
    Select,
    SelectItem,
  } from "carbon-components-svelte";
  import { call, sentence, unique } from "../lib/api";
  import { reference, verbs } from "../lib/format";
  import { pending } from "../lib/session.svelte";
  import type { Container, Kind, OperationWish, TargetPlan } from "../lib/types";

  let { wish }: { wish: { kind: Kind; containers: Container[] } } = $props();

  const SIGNALS = ["SIGKILL", "SIGTERM", "SIGINT", "SIGHUP", "SIGUSR1", "SIGUSR2", "SIGQUIT"];

  let grace = $state<number | null>(null);
  let signal = $state("SIGKILL");
  let force = $state(false);
  let volumes = $state(false);
  let plans = $state.raw<TargetPlan[] | null>(null);
  let wrong = $state("");
  let busy = $state(false);

  const request = $derived.by(() => {
    const body: OperationWish = { kind: wish.kind, targets: wish.containers.map(reference) };
    if ((wish.kind === "stop" || wish.kind === "restart") && grace !== null) body.grace_seconds = grace;
    if (wish.kind === "kill") body.signal = signal;
    if (wish.kind === "remove") Object.assign(body, { force, volumes });
    return body;
  });

  /** A doubled click, or the same again after a broken connection, is one operation. */
  const attempt = $derived.by(() => {
    void request;
    return unique();
  });

  $effect(() => {
    const asked = request;
    call<{ targets: TargetPlan[] }>("POST", "/api/v1/operations/preview", asked)
      .then((preview) => {
        if (asked === request) [plans, wrong] = [preview.targets, ""];
      })
      .catch((error: unknown) => {
        if (asked === request) wrong = sentence(error);
      });
  });

  const going = $derived((plans ?? []).filter((p) => !p.refused));
  const what = $derived(
    wish.containers.length === 1
      ? reference(wish.containers[0] as Container)
      : `${wish.containers.length} containers`,
  );
  const danger = $derived(wish.kind === "remove" || (wish.kind === "kill" && signal === "SIGKILL"));
  const anonymous = $derived(wish.containers.some((c) => c.mounts.some((m) => m.anonymous)));
  const alive = $derived(wish.containers.some((c) => ["running", "paused", "restarting"].includes(c.state)));

  async function submit() {
    busy = true;
    try {
      await call("POST", "/api/v1/operations", request, attempt);
      pending.wish = null;
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }
</script>

<Modal
  open
  {danger}
  modalHeading={`${verbs[wish.kind].ask} ${what}?`}
  primaryButtonText={`${verbs[wish.kind].ask}${going.length > 1 ? ` ${going.length}` : ""}`}
  primaryButtonDisabled={busy || going.length === 0}
  secondaryButtonText="Leave it"
  selectorPrimaryFocus=".bx--btn--primary, .bx--btn--danger"
  on:click:button--secondary={() => (pending.wish = null)}
  on:close={() => (pending.wish = null)}
  on:submit={() => void submit()}
>
  {#if wrong}
    <InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />
  {/if}
  <div class="plans" data-test="consequences">
    {#each plans ?? [] as plan (`${plan.host}/${plan.id}`)}
      <div class="plan" class:refused={plan.refused}>
        <strong>{plan.host}/{plan.name}</strong>
        <span>{plan.refused ? `Refused: ${plan.refused}.` : plan.consequence}</span>
      </div>
    {:else}
      {#if !wrong}<p class="soft">Asking what it would do…</p>{/if}
    {/each}
  </div>
  <div class="settings">
    {#if wish.kind === "stop" || wish.kind === "restart"}
      <NumberInput
        labelText="Grace period in seconds"
        helperText="Empty: each container's own, usually 10"
        allowEmpty
        min={0}
        max={3600}
        bind:value={grace}
      />
    {:else if wish.kind === "kill"}
      <Select labelText="Signal" bind:selected={signal}>
        {#each SIGNALS as name (name)}<SelectItem value={name} text={name} />{/each}
      </Select>
    {:else if wish.kind === "remove"}
      {#if alive}<Checkbox labelText="End what runs by force, then remove it" bind:checked={force} />{/if}
      {#if anonymous}
        <Checkbox labelText="Remove anonymous volumes too; their data is lost" bind:checked={volumes} />
      {/if}
    {/if}
  </div>
</Modal>

<style>
  .plans {
    max-height: 40vh;
    overflow-y: auto;
    margin-bottom: 1rem;
  }
  .plan {
    padding: 0.45rem 0;
    border-bottom: 1px solid var(--line);
    font-size: 0.875rem;
    overflow-wrap: anywhere;
  }
  .plan span {
    display: block;
    color: var(--cds-text-02);
  }
  .plan.refused span {
    color: var(--state-failed);
  }
</style>
