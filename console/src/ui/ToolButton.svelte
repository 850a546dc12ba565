<!-- A button in the toolbar of a list, a log, a chart or a picture: Carbon's, small; with `pressed` it is on or off. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import type { Snippet } from "svelte";

  let {
    children,
    onclick,
    pressed,
    class: more = "",
    ...rest
  }: {
    children: Snippet;
    onclick?: (event: MouseEvent) => void;
    pressed?: boolean;
    class?: string;
    type?: "button" | "submit";
    href?: string;
    download?: string | boolean;
    disabled?: boolean;
    title?: string;
    "aria-label"?: string;
    "aria-expanded"?: boolean;
    "data-test"?: string;
  } = $props();
</script>

<Button
  kind="ghost"
  size="small"
  class="tool {more}"
  aria-pressed={pressed}
  on:click={(event) => onclick?.(event)}
  {...rest}>{@render children()}</Button
>
