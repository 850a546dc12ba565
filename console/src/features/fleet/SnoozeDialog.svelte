<!-- The dialog that leaves a reason for attention out of the list for a while, for the whole team. -->
<script lang="ts">
  import { Modal, Select, SelectItem, TextArea } from "carbon-components-svelte";

  import { call, sentence } from "../../lib/api";
  import { moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import type { Item } from "./attention.svelte";

  let { item, onclose }: { item: Item; onclose: () => void } = $props();

  const HOURS: [number, string][] = [
    [1, "1 hour"],
    [4, "4 hours"],
    [24, "1 day"],
    [72, "3 days"],
    [168, "7 days"],
    [720, "30 days"],
  ];

  let hours = $state("4");
  let reason = $state("");
  let wrong = $state("");
  let busy = $state(false);

  async function save() {
    [busy, wrong] = [true, ""];
    try {
      await call("POST", "/api/v1/snoozes", {
        on: item.on,
        code: item.reason.code,
        reason,
        hours: Number(hours),
      });
      onclose();
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }
</script>

<Modal
  open
  size="sm"
  modalHeading={`Snooze ${item.where}`}
  primaryButtonText="Snooze"
  primaryButtonDisabled={busy || !reason.trim()}
  secondaryButtonText="Cancel"
  selectorPrimaryFocus="#snooze-reason"
  on:click:button--secondary={onclose}
  on:close={onclose}
  on:submit={() => void save()}
>
  <p><QuotedSentence text={item.reason.sentence} /></p>
  <p>
    Hidden for all members until {moment(new Date(live.now + Number(hours) * 3_600_000).toISOString())}.
    Anything else that goes wrong there is still shown.
  </p>
  <div class="fields">
    <Select size="sm" labelText="For" selected={hours} on:update={(event) => (hours = String(event.detail))}>
      {#each HOURS as [value, text] (value)}<SelectItem value={String(value)} {text} />{/each}
    </Select>
    <TextArea
      id="snooze-reason"
      labelText="Reason (shown to others)"
      rows={2}
      maxCount={500}
      bind:value={reason}
      invalid={wrong !== ""}
      invalidText={wrong}
    />
  </div>
</Modal>

<style>
  .fields {
    display: grid;
    gap: 0.75rem;
    margin-top: 0.75rem;
  }
</style>
