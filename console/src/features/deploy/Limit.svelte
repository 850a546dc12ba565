<!-- What a container may use at most. -->
<script lang="ts">
  import { MORE } from "./more";
  import { type Draft, setIn } from "./draft.svelte";
  import Entry from "../../ui/form/Entry.svelte";
  import Part from "../../ui/form/Part.svelte";
  import Size from "../../ui/form/Size.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);
</script>

<Part
  title="Limit"
  note="memory, processors, processes"
  set={setIn(...Object.values(d.limits ?? {}))}
  wrong={draft.wrongIn("/limits")}
>
  <div class="three">
    <Entry
      label="Memory"
      help="Killed above this."
      field="/limits/memory"
      more={MORE["/limits/memory"]}
      findings={draft.at("/limits/memory")}
    >
      <Size
        kind="size"
        name="Memory"
        value={d.limits?.memory}
        placeholder="no limit"
        onchange={(memory) => draft.limits({ memory })}
      />
    </Entry>
    <Entry
      label="Processors"
      help="How many it may use, such as 1.5."
      field="/limits/processors"
      more={MORE["/limits/processors"]}
      findings={draft.at("/limits/processors")}
    >
      <Size
        kind="number"
        name="Processors"
        value={d.limits?.processors}
        placeholder="no limit"
        onchange={(processors) => draft.limits({ processors })}
      />
    </Entry>
    <Entry
      label="Processes"
      help="Maximum number, threads included."
      field="/limits/processes"
      more={MORE["/limits/processes"]}
      findings={draft.at("/limits/processes")}
    >
      <Size
        kind="whole"
        name="Processes"
        value={d.limits?.processes}
        placeholder="no limit"
        onchange={(processes) => draft.limits({ processes })}
      />
    </Entry>
  </div>
</Part>

<style>
  .three {
    display: grid;
    gap: 1rem;
    grid-template-columns: repeat(3, 1fr);
  }
  .three :global(input) {
    width: 100%;
  }
</style>
