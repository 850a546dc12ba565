<!-- Copies the text before it: Carbon's copy button, small enough for a line of text. -->
<script lang="ts">
  import { CopyButton } from "carbon-components-svelte";

  let { text, what }: { text: string; /** What is copied, as in "Copy the id". */ what: string } = $props();
</script>

<span class="copy-button"
  ><CopyButton
    {text}
    size="sm"
    kind="ghost"
    iconDescription={`Copy ${what}`}
    feedback="Copied"
    errorFeedback="The browser does not let it be copied"
  /></span
>

<style>
  .copy-button {
    display: inline-block;
    vertical-align: middle;
    margin-block: -0.35rem;
  }
  .copy-button :global(.bx--copy-btn) {
    width: 1.75rem;
    height: 1.75rem;
    min-height: 1.75rem;
    padding: 0;
    background: transparent;
  }
</style>
