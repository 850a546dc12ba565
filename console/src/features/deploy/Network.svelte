<!-- How a container is joined: mode, networks with aliases and addresses, names. -->
<script lang="ts">
  import { MORE } from "./help";
  import { type Draft, setIn } from "./draft.svelte";
  import Field from "../../ui/form/Field.svelte";
  import LinesField from "../../ui/form/LinesField.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import RemoveButton from "../../ui/RemoveButton.svelte";
  import FormSection from "../../ui/form/FormSection.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import TextField from "../../ui/form/TextField.svelte";

  let { draft, networks }: { draft: Draft; networks: string[] } = $props();

  const d = $derived(draft.d);
  type Joined = NonNullable<NonNullable<typeof d.network>["networks"]>[number];

  function join(n: number, change: Partial<Joined>) {
    draft.network({ networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, ...change } : x)) });
  }
  const modes = $derived.by(() => {
    const all: [string, string][] = [
      ["", "the networks below"],
      ["host", "the host's network"],
      ["none", "none"],
    ];
    const mode = d.network?.mode;
    if (mode && !all.some(([m]) => m === mode)) all.push([mode, mode]);
    return all;
  });
</script>

<FormSection
  title="Network"
  note="networks, aliases, addresses, names"
  folded
  set={setIn(...Object.values(d.network ?? {}))}
  wrong={draft.wrongIn("/network")}
>
  <Field
    label="Mode"
    help="Its own network stack, the host's, or none."
    field="/network/mode"
    more={MORE["/network/mode"]}
    findings={draft.at("/network/mode")}
  >
    <SelectField
      name="Network mode"
      value={d.network?.mode ?? ""}
      options={modes}
      onchange={(mode) => draft.network({ mode: mode || undefined })}
    />
  </Field>
  <Field
    label="Networks"
    help="Containers in the same network reach it by name and alias."
    field="/network/networks"
    more={MORE["/network/networks"]}
    findings={draft.at("/network/networks")}
  >
    <datalist id="networks-of-host"
      >{#each networks as name (name)}<option value={name}></option>{/each}</datalist
    >
    {#each d.network?.networks ?? [] as joined, n (n)}
      <div class="joined" data-field={`/network/networks/${n}`}>
        <div data-field={`/network/networks/${n}/name`}>
          <TextField
            name={`Network ${n + 1}`}
            list="networks-of-host"
            placeholder="network"
            value={joined.name}
            onchange={(name) => join(n, { name: name ?? "" })}
          />
        </div>
        <TextField
          name={`Aliases in network ${n + 1}`}
          placeholder="aliases, separated by commas"
          atEnd
          value={joined.aliases?.join(", ")}
          onchange={(text) =>
            join(n, {
              aliases: (text ?? "")
                .split(",")
                .map((a) => a.trim())
                .filter(Boolean),
            })}
        />
        <TextField
          name={`Address in network ${n + 1}`}
          placeholder="address"
          value={joined.address ?? undefined}
          onchange={(address) => join(n, { address })}
        />
        <RemoveButton
          name={`Remove network ${n + 1}`}
          onclick={() => draft.network({ networks: d.network?.networks?.filter((_, k) => k !== n) })}
        />
      </div>
    {/each}
    <InlineAction onclick={() => draft.network({ networks: [...(d.network?.networks ?? []), { name: "" }] })}
      >Add a network</InlineAction
    >
  </Field>
  <div class="two">
    <Field
      label="Name servers"
      help="Addresses, one per line."
      field="/network/dns"
      findings={draft.at("/network/dns")}
    >
      <LinesField name="Name servers" value={d.network?.dns} onchange={(dns) => draft.network({ dns })} />
    </Field>
    <Field
      label="Extra hosts"
      help="name:address, one per line."
      field="/network/hosts"
      findings={draft.at("/network/hosts")}
    >
      <LinesField
        name="Extra hosts"
        value={d.network?.hosts}
        onchange={(hosts) => draft.network({ hosts })}
      />
    </Field>
  </div>
</FormSection>

<style>
  .two {
    display: grid;
    gap: 1rem;
    grid-template-columns: 1fr 1fr;
  }
  .joined {
    display: grid;
    grid-template-columns: 1fr 1.2fr 1fr 1.6rem;
    gap: 0.3rem;
    margin-bottom: 0.3rem;
  }
</style>
