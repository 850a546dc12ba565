<!-- Asks before a form with unsaved changes is left. -->
<script lang="ts">
  import { Modal } from "carbon-components-svelte";

  import { leave, leaving } from "../lib/unsaved.svelte";
</script>

<Modal
  size="xs"
  open={leaving.to !== null}
  modalHeading="Leave without saving?"
  primaryButtonText="Leave"
  secondaryButtonText="Stay"
  danger
  on:submit={() => leave(true)}
  on:click:button--secondary={() => leave(false)}
  on:close={() => leave(false)}
>
  <p>{leaving.what}</p>
</Modal>
