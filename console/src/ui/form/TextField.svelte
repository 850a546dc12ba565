<!-- An optional text: Carbon's text field, small. -->
<script lang="ts">
  import { TextInput } from "carbon-components-svelte";

  let {
    value,
    onchange,
    placeholder = "",
    name,
    id,
    label = "",
    mono = false,
    list,
    atEnd = false,
    onenter,
    disabled = false,
    maxlength,
    ...rest
  }: {
    value: string | undefined;
    onchange: (value: string | undefined) => void;
    placeholder?: string;
    /** What it is called for those who do not see it. */
    name: string;
    id?: string;
    /** Shown above it; without one only `name` is read out. */
    label?: string;
    mono?: boolean;
    /** The id of a list of proposals. */
    list?: string;
    /** Told when the field is left, not at each key. */
    atEnd?: boolean;
    onenter?: () => void;
    disabled?: boolean;
    maxlength?: number;
    "data-test"?: string;
  } = $props();

  const told = (text: unknown) => {
    const now = String(text ?? "");
    onchange(now === "" ? undefined : now);
  };
</script>

<div class="text" class:mono>
  <TextInput
    size="sm"
    {id}
    {disabled}
    {maxlength}
    {list}
    labelText={label}
    aria-label={name}
    {...rest}
    {placeholder}
    autocomplete="off"
    spellcheck="false"
    value={value ?? ""}
    on:input={(event) => !atEnd && told(event.detail)}
    on:change={(event) => atEnd && told(event.detail)}
    on:keydown={(event) => event.key === "Enter" && onenter?.()}
  />
</div>

<style>
  .text {
    min-width: 0;
    width: var(--text-width, 100%);
  }
</style>
