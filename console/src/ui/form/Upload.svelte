<!-- Files from this machine: Carbon's upload button. What was chosen is handed over, and can be chosen again. -->
<script lang="ts">
  import { FileUploaderButton } from "carbon-components-svelte";

  let {
    label,
    onfiles,
    multiple = false,
    folder = false,
    name,
  }: {
    label: string;
    onfiles: (files: File[]) => void;
    multiple?: boolean;
    /** A whole folder. */
    folder?: boolean;
    /** What it is called for those who do not see it; the label when absent. */
    name?: string;
  } = $props();

  let files = $state.raw<readonly File[]>([]);
</script>

<div class="upload">
  <FileUploaderButton
    kind="ghost"
    size="small"
    labelText={label}
    disableLabelChanges
    {multiple}
    webkitdirectory={folder || undefined}
    aria-label={name ?? label}
    bind:files
    on:change={(event) => {
      const chosen = [...event.detail];
      files = [];
      onfiles(chosen);
    }}
  />
</div>

<style>
  .upload :global(.bx--form-item),
  .upload :global(.bx--btn) {
    margin: 0;
    width: auto;
  }
</style>
