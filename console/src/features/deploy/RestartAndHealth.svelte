<!-- Restart policy, health check and stop behaviour. -->
<script lang="ts">
  import { MORE } from "./help";
  import type { HealthRule } from "../../lib/types";
  import { type Draft, setIn } from "./draft.svelte";
  import Field from "../../ui/form/Field.svelte";
  import FormSection from "../../ui/form/FormSection.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);
  const POLICIES = [
    ["no", "no"],
    ["on-failure", "on failure"],
    ["always", "always"],
    ["unless-stopped", "unless stopped"],
  ] as const;

  /** Engines take a check as words, or as a text for the container's shell. */
  const checkText = $derived(
    d.health?.test?.[0] === "CMD-SHELL" ? d.health.test[1] : d.health?.test?.slice(1).join(" "),
  );

  /** Interval, timeout and retries, while the command is empty because another is about to be written. */
  let others: HealthRule = {};
  function check(command: string | undefined) {
    if (command) {
      draft.health({ ...others, test: ["CMD-SHELL", command], disabled: false });
      others = {};
    } else {
      others = { ...d.health };
      draft.set({ health: undefined });
    }
  }
</script>

<FormSection
  title="Restart and health"
  note="restart policy, health check, stop"
  set={setIn(
    d.restart?.policy && d.restart.policy !== "no",
    d.health,
    d.grace_seconds,
    d.stop_signal,
    d.init,
    d.auto_remove,
  )}
  wrong={draft.wrongIn("/restart", "/health", "/grace_seconds", "/stop_signal", "/auto_remove")}
>
  <div class="two">
    <Field
      label="Restart policy"
      help="When the engine restarts it."
      field="/restart"
      more={MORE["/restart"]}
      findings={draft.at("/restart")}
    >
      <SelectField
        name="Restart"
        value={d.restart?.policy || "no"}
        options={POLICIES}
        onchange={(policy) => draft.set({ restart: { ...d.restart, policy } })}
      />
    </Field>
    <Field
      label="Grace period"
      help="Between the stop signal and SIGKILL. Empty: 10 s."
      field="/grace_seconds"
      more={MORE["/grace_seconds"]}
      findings={draft.at("/grace_seconds")}
    >
      <QuantityField
        kind="span"
        name="Grace period"
        value={d.grace_seconds === undefined ? undefined : d.grace_seconds * 1000}
        placeholder="10 s"
        onchange={(ms) => draft.set({ grace_seconds: ms === undefined ? undefined : Math.ceil(ms / 1000) })}
      />
    </Field>
  </div>
  {#if d.restart?.policy === "on-failure"}
    <Field
      label="Retry limit"
      help="Empty: no limit."
      field="/restart/most_tries"
      findings={draft.at("/restart/most_tries")}
    >
      <QuantityField
        kind="whole"
        name="Retry limit"
        value={d.restart.most_tries}
        onchange={(most_tries) => draft.set({ restart: { policy: "on-failure", most_tries } })}
      />
    </Field>
  {/if}
  <Field
    label="Health check"
    help="Exit code 0 means healthy. Empty: the image's check."
    field="/health/test"
    more={MORE["/health/test"]}
    findings={draft.at("/health/test")}
  >
    <TextField
      name="Health check"
      value={checkText}
      placeholder="wget -q -O- http://localhost:8080/health"
      onchange={check}
    />
  </Field>
  {#if d.health?.test?.length}
    <div class="four">
      <Field label="Interval" field="/health/interval_ms" findings={draft.at("/health/interval_ms")}>
        <QuantityField
          kind="span"
          name="Interval of the check"
          value={d.health.interval_ms}
          placeholder="30 s"
          onchange={(interval_ms) => draft.health({ interval_ms })}
        />
      </Field>
      <Field label="Timeout" field="/health/timeout_ms" findings={draft.at("/health/timeout_ms")}>
        <QuantityField
          kind="span"
          name="Timeout of the check"
          value={d.health.timeout_ms}
          placeholder="30 s"
          onchange={(timeout_ms) => draft.health({ timeout_ms })}
        />
      </Field>
      <Field label="Retries" field="/health/retries" findings={draft.at("/health/retries")}>
        <QuantityField
          kind="whole"
          name="Retries of the check"
          value={d.health.retries}
          placeholder="3"
          onchange={(retries) => draft.health({ retries })}
        />
      </Field>
      <Field label="Start period" field="/health/start_ms" findings={draft.at("/health/start_ms")}>
        <QuantityField
          kind="span"
          name="Start period"
          value={d.health.start_ms}
          placeholder="0 s"
          onchange={(start_ms) => draft.health({ start_ms })}
        />
      </Field>
    </div>
  {/if}
  <div class="check" title="For one-off jobs" data-field="/auto_remove">
    <CheckField
      label="Remove it when it exits"
      value={d.auto_remove ?? false}
      onchange={(auto_remove) => draft.set({ auto_remove })}
    />
  </div>
  {#each draft.at("/auto_remove") as f (f.sentence)}<p class="wrong" role="alert" data-test="finding">
      {f.sentence}
    </p>{/each}
</FormSection>

<style>
  .two {
    display: grid;
    gap: 1rem;
    grid-template-columns: 1fr 1fr;
  }
  .four {
    display: grid;
    gap: 1rem;
    grid-template-columns: repeat(4, 1fr);
  }
  .four :global(input) {
    width: 100%;
  }
  .wrong {
    color: var(--state-failed);
    font-size: 0.75rem;
  }
</style>
