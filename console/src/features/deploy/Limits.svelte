<!-- Resource limits of a container. -->
<script lang="ts">
  import { MORE } from "./help";
  import { type Draft, setIn } from "./draft.svelte";
  import Field from "../../ui/form/Field.svelte";
  import FormSection from "../../ui/form/FormSection.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);
</script>

<FormSection
  title="Limit"
  note="memory, processors, processes"
  set={setIn(...Object.values(d.limits ?? {}))}
  wrong={draft.wrongIn("/limits")}
>
  <div class="three">
    <Field
      label="Memory"
      help="Killed above this."
      field="/limits/memory"
      more={MORE["/limits/memory"]}
      findings={draft.at("/limits/memory")}
    >
      <QuantityField
        kind="size"
        name="Memory"
        value={d.limits?.memory}
        placeholder="no limit"
        onchange={(memory) => draft.limits({ memory })}
      />
    </Field>
    <Field
      label="Processors"
      help="How many it may use, such as 1.5."
      field="/limits/processors"
      more={MORE["/limits/processors"]}
      findings={draft.at("/limits/processors")}
    >
      <QuantityField
        kind="number"
        name="Processors"
        value={d.limits?.processors}
        placeholder="no limit"
        onchange={(processors) => draft.limits({ processors })}
      />
    </Field>
    <Field
      label="Processes"
      help="Maximum number, threads included."
      field="/limits/processes"
      more={MORE["/limits/processes"]}
      findings={draft.at("/limits/processes")}
    >
      <QuantityField
        kind="whole"
        name="Processes"
        value={d.limits?.processes}
        placeholder="no limit"
        onchange={(processes) => draft.limits({ processes })}
      />
    </Field>
  </div>
</FormSection>

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
