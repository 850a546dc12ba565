<!-- Environment variables: rows, and a field into which `NAME=value` lines are pasted. -->
<script lang="ts">
  import { TextArea } from "carbon-components-svelte";

  import { call, sentence } from "../../lib/api";
  import type { EnvironmentEntry, Finding } from "../../lib/types";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import RemoveButton from "../../ui/RemoveButton.svelte";
  import TextField from "../../ui/form/TextField.svelte";

  let {
    value,
    onchange,
    findings,
    onread,
  }: {
    value: EnvironmentEntry[];
    onchange: (value: EnvironmentEntry[]) => void;
    findings: Finding[];
    /** Called when lines were taken over: their errors are reported. */
    onread?: () => void;
  } = $props();

  let pasting = $state(false);
  let pasted = $state("");

  const at = (n: number) =>
    findings.filter((f) => f.field === `/environment/${n}` || f.field.startsWith(`/environment/${n}/`));

  function set(n: number, change: Partial<EnvironmentEntry>) {
    onchange(value.map((e, k) => (k === n ? { ...e, ...change } : e)));
  }

  let left = $state.raw<{ line: number; sentence: string }[]>([]);
  let told = $state("");

  interface Read {
    variables: EnvironmentEntry[];
    left: { line: number; sentence: string }[];
  }

  /** The service reads the lines, as it does for the command line; what it could not take stays in the field. */
  async function take() {
    told = "";
    try {
      const text = pasted;
      const read = await call<Read>("POST", "/api/v1/definitions/variables", { text });
      const next = [...value];
      for (const entry of read.variables) {
        const known = next.findIndex((e) => e.name === entry.name);
        if (known >= 0) next[known] = entry;
        else next.push(entry);
      }
      onchange(next);
      onread?.();
      left = read.left;
      const lines = text.split("\n");
      pasted = left.map((l) => lines[l.line - 1] ?? "").join("\n");
      pasting = left.length > 0;
    } catch (error) {
      told = sentence(error);
    }
  }
</script>

{#each value as entry, n (n)}
  <div class="row" data-field={`/environment/${n}`}>
    <TextField
      mono
      name={`Name of variable ${n + 1}`}
      placeholder="NAME"
      value={entry.name}
      onchange={(name) => set(n, { name: name ?? "" })}
    />
    <TextField
      mono
      name={`Value of ${entry.name || `variable ${n + 1}`}`}
      placeholder={entry.hidden ? "stays as it is" : "value"}
      value={entry.hidden ? "" : entry.value}
      onchange={(v) => set(n, { value: v ?? "", hidden: false })}
    />
    <RemoveButton
      name={`Remove ${entry.name || "it"}`}
      onclick={() => onchange(value.filter((_, k) => k !== n))}
    />
  </div>
  {#each at(n) as f (f.sentence)}<p class={f.weight} role="alert" data-test="finding">
      <QuotedSentence text={f.sentence} />
    </p>{/each}
{/each}
<div class="acts">
  <InlineAction onclick={() => onchange([...value, { name: "", value: "" }])}>Add a variable</InlineAction>
  <InlineAction onclick={() => ([pasting, left] = [!pasting, []])}>Paste NAME=value lines</InlineAction>
</div>
{#if pasting}
  <TextArea rows={6} aria-label="Lines of NAME=value" placeholder="TZ=Europe/London" bind:value={pasted} />
  {#each left as l (l.line)}
    <p class="warning" role="alert" data-test="left-line">
      Line {l.line}: <QuotedSentence text={l.sentence} />
    </p>
  {/each}
  {#if told}<p class="error" role="alert">{told}</p>{/if}
  <InlineAction onclick={() => void take()} disabled={!pasted.trim()}>Add these</InlineAction>
{/if}

<style>
  .row {
    display: grid;
    grid-template-columns: minmax(8rem, 2fr) minmax(0, 3fr) 1.6rem;
    gap: 0.3rem;
    margin-bottom: 0.3rem;
  }
  .acts {
    display: flex;
    gap: 1rem;
  }
  .error {
    color: var(--state-failed);
    font-size: 0.75rem;
    margin: 0 0 0.3rem;
  }
  .warning {
    color: var(--state-halted);
    font-size: 0.75rem;
    margin: 0 0 0.3rem;
  }
</style>
