<!-- The dialog that pulls an image: which one (what hosts and registries have, its tags with age, size and platforms), and to which hosts. -->
<script lang="ts">
  import { Modal } from "carbon-components-svelte";

  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { ImageRow } from "../../lib/types";
  import SelectField from "../../ui/form/SelectField.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";
  import ImagePick from "../deploy/ImagePick.svelte";

  let { images, onclose }: { images: ImageRow[]; onclose: () => void } = $props();

  let image = $state("");
  let platform = $state("");
  let platforms = $state.raw<string[]>([]);
  let chosen = $state.raw<string[]>([]);

  const hosts = $derived(live.hosts.filter((h) => h.state === "live").map((h) => h.name));
  const here = $derived(images.find((i) => i.tags.includes(image.trim()))?.copies.map((c) => c.host) ?? []);

  function ask() {
    const name = image.trim();
    onclose();
    pending.wish = {
      kind: "pull",
      containers: [],
      title: `Pull ${name}`,
      request: { kind: "pull", targets: chosen, image: name, ...(platform ? { platform } : {}) },
    };
  }
</script>

<Modal
  open
  modalHeading="Pull an image"
  primaryButtonText={chosen.length === 0
    ? "Choose a host"
    : `Preview on ${chosen.length} ${chosen.length === 1 ? "host" : "hosts"}`}
  primaryButtonDisabled={!image.trim() || chosen.length === 0}
  secondaryButtonText="Cancel"
  selectorPrimaryFocus="#image"
  on:click:button--secondary={onclose}
  on:close={onclose}
  on:submit={ask}
>
  <div class="fields">
    <div>
      <span class="label">Image</span>
      <ImagePick
        value={image}
        onchange={(next) => (image = next)}
        onplatforms={(found) => {
          platforms = found;
          if (!found.includes(platform)) platform = "";
        }}
      />
    </div>
    {#if platforms.length > 1}
      <SelectField
        label="Platform"
        name="Platform"
        value={platform}
        options={[["", "the host's own"], ...platforms.map((p): [string, string] => [p, p])]}
        onchange={(next) => (platform = next)}
      />
    {/if}
    <fieldset>
      <legend>Hosts</legend>
      {#each hosts as host (host)}
        <CheckField
          label={`${host}${here.includes(host) ? " – has it" : ""}`}
          value={chosen.includes(host)}
          onchange={(on) => (chosen = on ? [...chosen, host] : chosen.filter((h) => h !== host))}
        />
      {/each}
    </fieldset>
  </div>
</Modal>

<style>
  .fields {
    display: grid;
    gap: 1rem;
  }
  .label,
  legend {
    display: block;
    margin-bottom: 0.25rem;
    font-size: 0.75rem;
    color: var(--cds-text-02);
  }
  fieldset {
    border: 0;
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(11rem, 1fr));
    gap: 0.25rem 1rem;
    max-height: 14rem;
    overflow-y: auto;
  }
</style>
