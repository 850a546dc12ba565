<!-- What keeps a container up: restarts, the health check, how it ends. -->
<script lang="ts">
  import type { HealthRule } from "../../lib/types";
  import { type Draft, setIn } from "./draft.svelte";
  import Entry from "../../ui/form/Entry.svelte";
  import Part from "../../ui/form/Part.svelte";
  import Size from "../../ui/form/Size.svelte";
  import Text from "../../ui/form/Text.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);

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

<Part
  title="Stay up"
  note="restarts, health, end"
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
    <Entry label="Restart" help="When the engine starts it again by itself." findings={draft.at("/restart")}>
      <select
        aria-label="Restart"
        value={d.restart?.policy || "no"}
        onchange={(e) => draft.set({ restart: { ...d.restart, policy: e.currentTarget.value } })}
      >
        <option value="no">no</option><option value="on-failure">when it fails</option>
        <option value="always">always</option><option value="unless-stopped"
          >unless somebody stopped it</option
        >
      </select>
    </Entry>
    <Entry
      label="Grace period"
      help="Between asking it to end and forcing it; 10 s when empty."
      findings={draft.at("/grace_seconds")}
    >
      <Size
        kind="span"
        name="Grace period"
        value={d.grace_seconds === undefined ? undefined : d.grace_seconds * 1000}
        placeholder="10 s"
        onchange={(ms) => draft.set({ grace_seconds: ms === undefined ? undefined : Math.ceil(ms / 1000) })}
      />
    </Entry>
  </div>
  {#if d.restart?.policy === "on-failure"}
    <Entry
      label="At most"
      help="So many tries; without end when empty."
      findings={draft.at("/restart/most_tries")}
    >
      <Size
        kind="whole"
        name="Most tries"
        value={d.restart.most_tries}
        onchange={(most_tries) => draft.set({ restart: { policy: "on-failure", most_tries } })}
      />
    </Entry>
  {/if}
  <Entry
    label="Health check"
    help="Exit code 0 means healthy. The image's check when empty."
    findings={draft.at("/health/test")}
  >
    <Text
      name="Health check"
      value={checkText}
      placeholder="wget -q -O- http://localhost:8080/health"
      onchange={check}
    />
  </Entry>
  {#if d.health?.test?.length}
    <div class="four">
      <Entry label="Every" findings={draft.at("/health/interval_ms")}>
        <Size
          kind="span"
          name="Interval of the check"
          value={d.health.interval_ms}
          placeholder="30 s"
          onchange={(interval_ms) => draft.health({ interval_ms })}
        />
      </Entry>
      <Entry label="Takes at most" findings={draft.at("/health/timeout_ms")}>
        <Size
          kind="span"
          name="Timeout of the check"
          value={d.health.timeout_ms}
          placeholder="30 s"
          onchange={(timeout_ms) => draft.health({ timeout_ms })}
        />
      </Entry>
      <Entry label="Tries" findings={draft.at("/health/retries")}>
        <Size
          kind="whole"
          name="Tries of the check"
          value={d.health.retries}
          placeholder="3"
          onchange={(retries) => draft.health({ retries })}
        />
      </Entry>
      <Entry label="Time to start" findings={draft.at("/health/start_ms")}>
        <Size
          kind="span"
          name="Time to start"
          value={d.health.start_ms}
          placeholder="0 s"
          onchange={(start_ms) => draft.health({ start_ms })}
        />
      </Entry>
    </div>
  {/if}
  <label class="check" title="For one-off jobs">
    <input
      type="checkbox"
      checked={d.auto_remove ?? false}
      onchange={(e) => draft.set({ auto_remove: e.currentTarget.checked })}
    />
    Remove it when it ends
  </label>
  {#each draft.at("/auto_remove") as f (f.sentence)}<p class="wrong" role="alert" data-test="finding">
      {f.sentence}
    </p>{/each}
</Part>

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
  .check {
    font-size: 0.8125rem;
  }
  .wrong {
    color: var(--state-failed);
    font-size: 0.75rem;
  }
</style>
