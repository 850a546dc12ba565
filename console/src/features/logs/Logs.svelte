<!-- Logs of any selection in one view, and the rules by which lines are kept. -->
<script lang="ts">
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import KeptLogs from "./KeptLogs.svelte";
  import LogView from "./LogView.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";

  const refs = $derived((place.query.get("refs") ?? "").split(",").filter(Boolean));
  const stack = $derived(place.query.get("stack") ?? "");
  const label = $derived(place.query.get("label") ?? "");
  const stacks = $derived(
    [...new Set(live.containers.map((c) => c.stack).filter((s): s is string => !!s))].sort(),
  );
  let draft = $derived(refs.join(", "));
  let keeping = $state(false);
  const chosen = $derived(refs.length > 0 || !!stack || !!label);

  function apply() {
    query({
      refs: draft
        .split(/[\s,]+/)
        .filter(Boolean)
        .join(","),
      stack: null,
      label: null,
    });
  }
</script>

<div class="tools bar">
  <h1>Logs</h1>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      apply();
    }}
  >
    <TextField
      id="filter"
      placeholder="Containers: packhouse/frostwatch-api-1, */frost-*"
      name="Whose logs"
      value={draft}
      onchange={(text) => (draft = text ?? "")}
      data-test="refs"
    />
    <ToolButton type="submit">Show</ToolButton>
  </form>
  <SelectField
    name="Stack"
    value={stack}
    options={[["", "or a stack…"], ...stacks.map((name): [string, string] => [name, name])]}
    onchange={(next) => query({ stack: next || null, refs: null })}
  />
  <span class="push"></span>
  <ToolButton pressed={keeping} onclick={() => (keeping = !keeping)}>Kept logs…</ToolButton>
</div>
{#if keeping}
  <KeptLogs />
{/if}
{#if chosen}
  {#key `${refs.join()} ${stack} ${label}`}
    <LogView references={refs} {stack} {label} />
  {/key}
{:else}
  <div class="empty">
    <p>
      Enter a container as <code>host/name</code>, several with <code>*</code>, or a stack. Or select rows in
      the list of containers and press <em>Logs</em>.
    </p>
    <InlineAction onclick={() => query({ refs: "*/*" })}>Show all containers' logs</InlineAction>
  </div>
{/if}

<style>
  form {
    display: contents;
  }
</style>
