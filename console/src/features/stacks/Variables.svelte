<!-- The variables that a stack's files ask for, with a field for each: those without which nothing goes first. -->
<script lang="ts">
  import { PasswordInput, TextInput } from "carbon-components-svelte";
  import type { VariableNote } from "../../lib/types";
  import { SECRET } from "../../lib/unsaved.svelte";
  import { HIDDEN, type StackDraft } from "./stackDraft.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";

  let { draft, onshow }: { draft: StackDraft; onshow: (file: string, line: number, column: number) => void } =
    $props();

  function help(v: VariableNote): string {
    if (v.state === "required" && !(v.name in draft.variables)) return "Required.";
    if (v.name in draft.variables) return draft.variables[v.name] === HIDDEN ? "Unchanged." : "";
    if (v.state === "default") return `Without a value: ${v.default || "(empty)"}`;
    if (v.state === "empty") return "Default: empty.";
    return v.state === "set" ? "Its value is in a file." : "";
  }

  function set(name: string, value: string) {
    draft.setVariable(name, value === "" ? undefined : value);
  }
</script>

{#if draft.asked.length > 0}
  <h2>Variables</h2>
  <div class="variables" data-test="variables">
    {#each draft.asked as v (v.name)}
      {@const invalid = v.state === "required" && !(v.name in draft.variables)}
      <div class="variable">
        {#if SECRET.test(v.name)}
          <PasswordInput
            size="sm"
            labelText={v.name}
            helperText={help(v)}
            {invalid}
            invalidText={help(v)}
            autocomplete="off"
            value={draft.variables[v.name] ?? ""}
            on:input={(e) =>
              set(v.name, e.currentTarget instanceof HTMLInputElement ? e.currentTarget.value : "")}
          />
        {:else}
          <TextInput
            size="sm"
            labelText={v.name}
            helperText={help(v)}
            {invalid}
            invalidText={help(v)}
            value={draft.variables[v.name] ?? ""}
            on:input={(e) => set(v.name, String(e.detail ?? ""))}
          />
        {/if}
        <InlineAction onclick={() => onshow(v.file, v.line, v.column)}>line {v.line}</InlineAction>
      </div>
    {/each}
  </div>
{/if}

<style>
  h2 {
    margin: 1.2rem 0 0.5rem;
  }
  .variables {
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(13rem, 1fr));
    gap: 0.6rem 0.75rem;
  }
  .variable {
    position: relative;
  }
</style>
