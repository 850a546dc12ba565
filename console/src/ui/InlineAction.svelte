<!-- An action in a line of text or in a row of a table: Carbon's ghost button without a frame. With `href` it is a link. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import type { Snippet } from "svelte";

  let {
    children,
    onclick,
    class: more = "",
    ...rest
  }: {
    children: Snippet;
    onclick?: (event: MouseEvent) => void;
    class?: string;
    href?: string;
    disabled?: boolean;
    title?: string;
    "aria-label"?: string;
    "aria-expanded"?: boolean;
    "data-test"?: string;
  } = $props();
</script>

<Button kind="ghost" size="small" class="act {more}" on:click={(event) => onclick?.(event)} {...rest}
  >{@render children()}</Button
>
