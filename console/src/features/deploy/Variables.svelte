<!-- Environment variables: rows, and a field into which `NAME=value` lines are pasted. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import type { EnvironmentEntry, Finding } from "../../lib/types";
  import Said from "../exec/Said.svelte";

  let {
    value,
    onchange,
    findings,
  }: {
    value: EnvironmentEntry[];
    onchange: (value: EnvironmentEntry[]) => void;
    findings: Finding[];
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
  <div class="row">
    <input
      class="mono"
      aria-label={`Name of variable ${n + 1}`}
      placeholder="NAME"
      autocomplete="off"
      spellcheck="false"
      value={entry.name}
      oninput={(e) => set(n, { name: e.currentTarget.value })}
    />
    <input
      class="mono wide"
      aria-label={`Value of ${entry.name || `variable ${n + 1}`}`}
      placeholder={entry.hidden ? "stays as it is" : "value"}
      autocomplete="off"
      spellcheck="false"
      value={entry.hidden ? "" : entry.value}
      oninput={(e) => set(n, { value: e.currentTarget.value, hidden: false })}
    />
    <button
      type="button"
      class="away"
      aria-label={`Take ${entry.name || "it"} away`}
      onclick={() => onchange(value.filter((_, k) => k !== n))}>×</button
    >
  </div>
  {#each at(n) as f (f.sentence)}<p class={f.weight} role="alert" data-test="finding">
      <Said text={f.sentence} />
    </p>{/each}
{/each}
<div class="acts">
  <button type="button" class="link" onclick={() => onchange([...value, { name: "", value: "" }])}
    >Add a variable</button
  >
  <button type="button" class="link" onclick={() => ([pasting, left] = [!pasting, []])}
    >Paste NAME=value lines</button
  >
</div>
{#if pasting}
  <textarea
    class="mono"
    rows="6"
    aria-label="Lines of NAME=value"
    placeholder="TZ=Europe/London"
    bind:value={pasted}></textarea>
  {#each left as l (l.line)}
    <p class="warning" role="alert" data-test="left-line">Line {l.line}: <Said text={l.sentence} /></p>
  {/each}
  {#if told}<p class="error" role="alert">{told}</p>{/if}
  <button type="button" class="link" onclick={take} disabled={!pasted.trim()}>Take these over</button>
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
  .wide,
  textarea {
    width: 100%;
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
