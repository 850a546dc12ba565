<!-- Variables, command, user, names and labels of a container. -->
<script lang="ts">
  import { MORE } from "./more";
  import { type Draft, setIn } from "./draft.svelte";
  import Entry from "../../ui/form/Entry.svelte";
  import Pairs from "../../ui/form/Pairs.svelte";
  import Part from "../../ui/form/Part.svelte";
  import Text from "../../ui/form/Text.svelte";
  import Variables from "./Variables.svelte";
  import Words from "../../ui/form/Words.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);
</script>

<Part
  title="Configure"
  note="variables, command, user, labels"
  set={setIn(d.environment, d.command, d.entrypoint, d.user, d.working_folder, d.hostname, d.labels)}
  wrong={draft.wrongIn("/environment", "/labels", "/hostname", "/working_folder", "/command", "/user")}
>
  <Entry label="Environment" findings={draft.findings.filter((f) => f.field === "/environment")}>
    <Variables
      value={d.environment ?? []}
      onchange={(environment) => draft.set({ environment })}
      findings={draft.at("/environment")}
      onread={() => draft.visit("/environment")}
    />
  </Entry>
  <Entry
    label="Command"
    help="Overrides the image's command."
    field="/command"
    findings={draft.at("/command")}
  >
    <Words
      name="Command"
      value={d.command}
      placeholder={draft.image?.command?.join(" ") ?? ""}
      onchange={(command) => draft.set({ command })}
    />
  </Entry>
  <Entry
    label="Entry point"
    help="Overrides the image's entry point; the command becomes its arguments."
    field="/entrypoint"
    findings={draft.at("/entrypoint")}
  >
    <Words
      name="Entry point"
      value={d.entrypoint}
      placeholder={draft.image?.entrypoint?.join(" ") ?? ""}
      onchange={(entrypoint) => draft.set({ entrypoint })}
    />
  </Entry>
  <div class="two">
    <Entry
      label="User"
      help="Name or number, with :group if need be."
      field="/user"
      more={MORE["/user"]}
      findings={draft.at("/user")}
    >
      <Text
        name="User"
        value={d.user}
        placeholder={draft.image?.user ?? "as in the image"}
        onchange={(user) => draft.set({ user })}
      />
    </Entry>
    <Entry
      label="Working directory"
      help="Where the command starts."
      field="/working_folder"
      findings={draft.at("/working_folder")}
    >
      <Text
        name="Working directory"
        value={d.working_folder}
        placeholder={draft.image?.working_folder ?? "as in the image"}
        onchange={(working_folder) => draft.set({ working_folder })}
      />
    </Entry>
  </div>
  <Entry label="Hostname" help="Empty: its short ID." field="/hostname" findings={draft.at("/hostname")}>
    <Text name="Hostname" value={d.hostname} onchange={(hostname) => draft.set({ hostname })} />
  </Entry>
  <Entry label="Labels" help="name=value, one per line." field="/labels" findings={draft.at("/labels")}>
    <Pairs
      name="Labels"
      value={d.labels}
      placeholder="owner=operations"
      onchange={(labels) => draft.set({ labels: labels ?? {} })}
    />
  </Entry>
</Part>

<style>
  .two {
    display: grid;
    gap: 1rem;
    grid-template-columns: 1fr 1fr;
  }
</style>
