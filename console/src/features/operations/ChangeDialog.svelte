<!-- The dialog before a change: its preview for each target, its few settings, and one button. The request carries the
digest of the preview: if the effects have changed since, the change is refused and previewed again. -->
<script lang="ts">
  import {
    Checkbox,
    InlineNotification,
    Modal,
    NumberInput,
    Select,
    SelectItem,
    TextInput,
  } from "carbon-components-svelte";
  import { ApiError, call, sentence, unique } from "../../lib/api";
  import { bytes, reference, verbs } from "../../lib/format";
  import { pending, type Wish } from "../../lib/session.svelte";
  import type { Container, Kind, Operation, OperationWish, Preview } from "../../lib/types";
  import Consequences from "../stacks/Consequences.svelte";
  import MoveSettings from "./MoveSettings.svelte";
  import PlanView from "./PlanView.svelte";

  let { wish }: { wish: Wish } = $props();

  type MoveWish = { what: string; targets: string[] };

  const SIGNALS = ["SIGKILL", "SIGTERM", "SIGINT", "SIGHUP", "SIGUSR1", "SIGUSR2", "SIGQUIT"];
  const ROLLS = ["start", "restart", "stop", "update", "rollback"];
  const MOST_SHOWN = 200;
  /** The longest wait in the queue, in seconds. */
  const WAIT = 3600;

  let grace = $state<number | null>(null);
  let signal = $state("SIGKILL");
  let force = $state(false);
  let volumes = $state(false);
  let images = $state(false);
  let parents = $state(false);
  let image = $state("");
  let rolling = $state(false);
  let atOnce = $state(1);
  let keepGoing = $state(false);
  let watch = $state<number | null>(null);
  let preview = $state.raw<Preview | null>(null);
  /** The request that the preview is of: until it is the present one, nothing can be carried out. */
  let previewed = $state.raw<OperationWish | null>(null);
  let wrong = $state("");
  let busy = $state(false);
  let again = $state(0);
  /** Of a move or a copy: what its form says, once it is complete. */
  let goes = $state.raw<Record<string, unknown> | null>(null);
  const goal = $derived(
    wish.kind === "move" || wish.kind === "clone"
      ? { kind: wish.kind, asked: wish.request as MoveWish }
      : null,
  );

  /** A stack is changed as a whole. */
  const whole = $derived(["apply", "remove-stack", "move", "clone"].includes(wish.kind));
  const replaces = $derived(["update", "rollback", "edit"].includes(wish.kind));
  const request = $derived.by(() => {
    const asked = wish.request ?? { kind: wish.kind, targets: wish.containers.map(reference) };
    return { ...asked, ...settings(wish.kind) } as OperationWish;
  });

  /** What the form says, of what goes with this kind of change. */
  function settings(kind: Kind) {
    const rolls =
      rolling && ROLLS.includes(kind) ? { rolling: { at_once: atOnce, keep_going: keepGoing } } : {};
    const watched = replaces && watch !== null ? { watch_seconds: watch } : {};
    switch (kind) {
      case "stop":
      case "restart":
        return { ...rolls, ...(grace === null ? {} : { grace_seconds: grace }) };
      case "kill":
        return { signal };
      case "remove":
        return { force, volumes };
      case "remove-stack":
        return { volumes, images };
      case "move":
      case "clone":
        return goes ?? {};
      case "remove-image":
        return { force, keep_parents: parents };
      case "remove-volume":
        return { force };
      case "update":
        return { ...rolls, ...watched, ...(image.trim() ? { image: image.trim() } : {}) };
      default:
        return { ...rolls, ...watched };
    }
  }

  /** A doubled click, or the same again after a broken connection, is one operation. */
  const attempt = $derived.by(() => {
    void request;
    void again;
    return unique();
  });

  $effect(() => {
    const asked = request;
    void again;
    if (goal && !goes) return;
    const wait = setTimeout(
      () => {
        call<Preview>("POST", "/api/v1/operations/preview", asked)
          .then((p) => {
            if (asked === request) [preview, previewed, wrong] = [p, asked, again ? wrong : ""];
          })
          .catch((error: unknown) => {
            if (asked === request) wrong = sentence(error);
          });
      },
      preview ? 300 : 0,
    );
    return () => clearTimeout(wait);
  });

  const plans = $derived(preview?.targets ?? null);
  const going = $derived((plans ?? []).filter((p) => !p.refused));
  /** Others are at work on some of it, or wait for it longer. */
  const taken = $derived((plans ?? []).filter((p) => p.busy));
  let queued = $state(false);
  const wins = $derived(going.reduce((sum, p) => sum + (p.bytes ?? 0), 0));
  const what = $derived(
    wish.title ??
      (wish.containers.length === 1
        ? `${verbs[wish.kind].ask} ${reference(wish.containers[0] as Container)}`
        : `${verbs[wish.kind].ask} ${wish.containers.length} containers`),
  );
  const loses = $derived(going.some((p) => p.data_at_risk?.length));
  const danger = $derived(
    (loses && !replaces) ||
      ["remove", "remove-stack", "remove-image", "remove-volume", "remove-network"].includes(wish.kind) ||
      (wish.kind === "kill" && signal === "SIGKILL"),
  );
  const anonymous = $derived(wish.containers.some((c) => c.mounts.some((m) => m.anonymous)));
  const alive = $derived(wish.containers.some((c) => ["running", "paused", "restarting"].includes(c.state)));

  let leaving: AbortController | undefined;

  function close() {
    if (busy) leaving?.abort();
    pending.wish = null;
  }

  async function submit() {
    busy = true;
    leaving = new AbortController();
    try {
      // A queued operation gets a plan of that moment: the present one says that others are at it.
      const body = queued ? { ...request, wait_seconds: WAIT } : { ...request, digest: preview?.digest };
      const operation = await call<Operation>("POST", "/api/v1/operations", body, attempt, leaving.signal);
      wish.asked?.(operation);
      pending.wish = null;
    } catch (error) {
      wrong = sentence(error);
      // What differs is shown; the next press is about that.
      if (error instanceof ApiError && error.problem.type.endsWith("changed-since-preview")) again += 1;
    } finally {
      busy = false;
    }
  }
</script>

<Modal
  open
  {danger}
  modalHeading={`${what}?`}
  primaryButtonText={busy && queued
    ? "Queued…"
    : `${verbs[wish.kind].ask}${going.length > 1 && !whole ? ` ${going.length}` : ""}`}
  primaryButtonDisabled={busy ||
    previewed !== request ||
    (!queued && (going.length === 0 || (whole && going.length < (plans?.length ?? 0))))}
  secondaryButtonText="Cancel"
  selectorPrimaryFocus=".bx--btn--secondary"
  on:click:button--secondary={close}
  on:close={close}
  on:submit={() => void submit()}
>
  {#if wrong}
    <InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />
  {/if}
  {#if goal}
    <!-- Where it goes is chosen first: what it would do depends on it. -->
    <MoveSettings
      kind={goal.kind}
      what={goal.asked.what}
      from={goal.asked.targets[0]?.split("/")[0] ?? ""}
      onchange={(settings) => (goes = settings)}
    />
  {/if}
  {#if wins > 0 && going.length > 1}<p class="wins">Frees {bytes(wins)} in total.</p>{/if}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div
    class="plans"
    class:flowing={goal !== null}
    role="region"
    aria-label="Preview"
    tabindex="0"
    data-test="consequences"
  >
    {#if whole && plans}
      <Consequences {plans} />
    {:else}
      {#each (plans ?? []).slice(0, MOST_SHOWN) as plan (`${plan.host}/${plan.object}/${plan.id}/${plan.name}`)}
        <PlanView {plan} steps={(plans?.length ?? 0) < 4} />
      {:else}
        {#if !wrong}<p class="soft">Loading preview…</p>{/if}
      {/each}
      {#if (plans?.length ?? 0) > MOST_SHOWN}
        <p class="soft">… and {(plans?.length ?? 0) - MOST_SHOWN} more</p>
      {/if}
    {/if}
  </div>
  <div class="settings">
    {#if taken.length > 0}
      <Checkbox
        disabled={busy}
        labelText="Queue: start when the other operation has ended. Keep this open; closing it leaves the queue"
        bind:checked={queued}
      />
    {/if}
    {#if wish.kind === "stop" || wish.kind === "restart"}
      <NumberInput
        labelText="Grace period in seconds"
        helperText="Empty: each container's grace period, usually 10"
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
      {#if alive}<Checkbox labelText="Kill it if it is running, then remove it" bind:checked={force} />{/if}
      {#if anonymous}
        <Checkbox labelText="Remove anonymous volumes too; their data is lost" bind:checked={volumes} />
      {/if}
    {:else if wish.kind === "remove-stack"}
      <Checkbox labelText="Remove its volumes too; the data in them is lost" bind:checked={volumes} />
      <Checkbox labelText="Remove its images too, where nothing else uses them" bind:checked={images} />
    {:else if wish.kind === "remove-image"}
      <Checkbox
        labelText="Remove even if it has several tags or exited containers use it"
        bind:checked={force}
      />
      <Checkbox labelText="Keep the untagged images that it was made from" bind:checked={parents} />
    {/if}
    {#if wish.kind === "update" && wish.containers.length === 1}
      <TextInput
        labelText="Another image or tag"
        helperText="Empty: the newest of its current tag"
        placeholder={wish.containers[0]?.image}
        bind:value={image}
      />
    {/if}
    {#if replaces}
      <NumberInput
        labelText="Seconds it must stay up without a health check"
        helperText="Empty: 10. If it does not, it is rolled back"
        allowEmpty
        min={0}
        max={3600}
        bind:value={watch}
      />
    {/if}
    {#if ROLLS.includes(wish.kind) && going.length > 1}
      <Checkbox labelText="One at a time, waiting until each is healthy" bind:checked={rolling} />
      {#if rolling}
        <NumberInput labelText="How many at once" min={1} max={1000} bind:value={atOnce} />
        <Checkbox labelText="Continue with the rest when one fails" bind:checked={keepGoing} />
      {/if}
    {/if}
  </div>
</Modal>

<style>
  .plans {
    max-height: 45vh;
    overflow-y: auto;
    margin-bottom: 1rem;
  }
  .plans.flowing {
    max-height: none;
  }
  .settings {
    display: grid;
    gap: 0.75rem;
  }
  .wins {
    font-weight: 600;
  }
</style>
