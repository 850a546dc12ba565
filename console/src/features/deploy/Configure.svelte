<!-- Variables, command, user, names and labels of a container. -->
<script lang="ts">
  import { MORE } from "./help";
  import { type Draft, setIn } from "./draft.svelte";
  import Field from "../../ui/form/Field.svelte";
  import NameValueList from "../../ui/form/NameValueList.svelte";
  import FormSection from "../../ui/form/FormSection.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import Variables from "./Variables.svelte";
  import CommandField from "../../ui/form/CommandField.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);
</script>

<FormSection
  title="Configure"
  note="variables, command, user, labels"
  set={setIn(d.environment, d.command, d.entrypoint, d.user, d.working_folder, d.hostname, d.labels)}
  wrong={draft.wrongIn("/environment", "/labels", "/hostname", "/working_folder", "/command", "/user")}
>
  <Field label="Environment" findings={draft.findings.filter((f) => f.field === "/environment")}>
    <Variables
      value={d.environment ?? []}
      onchange={(environment) => draft.set({ environment })}
      findings={draft.at("/environment")}
      onread={() => draft.visit("/environment")}
    />
  </Field>
  <Field
    label="Command"
    help="Overrides the image's command."
    field="/command"
    findings={draft.at("/command")}
  >
    <CommandField
      name="Command"
      value={d.command}
      placeholder={draft.image?.command?.join(" ") ?? ""}
      onchange={(command) => draft.set({ command })}
    />
  </Field>
  <Field
    label="Entry point"
    help="Overrides the image's entry point; the command becomes its arguments."
    field="/entrypoint"
    findings={draft.at("/entrypoint")}
  >
    <CommandField
      name="Entry point"
      value={d.entrypoint}
      placeholder={draft.image?.entrypoint?.join(" ") ?? ""}
      onchange={(entrypoint) => draft.set({ entrypoint })}
    />
  </Field>
  <div class="two">
    <Field
      label="User"
      help="Name or number, with :group if need be."
      field="/user"
      more={MORE["/user"]}
      findings={draft.at("/user")}
    >
      <TextField
        name="User"
        value={d.user}
        placeholder={draft.image?.user ?? "as in the image"}
        onchange={(user) => draft.set({ user })}
      />
    </Field>
    <Field
      label="Working directory"
      help="Where the command starts."
      field="/working_folder"
      findings={draft.at("/working_folder")}
    >
      <TextField
        name="Working directory"
        value={d.working_folder}
        placeholder={draft.image?.working_folder ?? "as in the image"}
        onchange={(working_folder) => draft.set({ working_folder })}
      />
    </Field>
  </div>
  <Field label="Hostname" help="Empty: its short ID." field="/hostname" findings={draft.at("/hostname")}>
    <TextField name="Hostname" value={d.hostname} onchange={(hostname) => draft.set({ hostname })} />
  </Field>
  <Field label="Labels" help="name=value, one per line." field="/labels" findings={draft.at("/labels")}>
    <NameValueList
      name="Labels"
      value={d.labels}
      placeholder="owner=operations"
      onchange={(labels) => draft.set({ labels: labels ?? {} })}
    />
  </Field>
</FormSection>

<style>
  .two {
    display: grid;
    gap: 1rem;
    grid-template-columns: 1fr 1fr;
  }
</style>
