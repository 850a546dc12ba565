<!-- What is set aside: by whom, until when and why, and bringing it back. -->
<script lang="ts">
  import { AccordionItem, Accordion, InlineNotification } from "carbon-components-svelte";

  import { call, sentence } from "../../lib/api";
  import { moment } from "../../lib/format";
  import InlineAction from "../../ui/InlineAction.svelte";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import type { Item } from "./attention.svelte";

  let { items }: { items: Item[] } = $props();

  let wrong = $state("");

  async function lift(item: Item) {
    try {
      await call("DELETE", `/api/v1/snoozes/${item.snoozed?.id}`);
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }
</script>

{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
<Accordion size="sm">
  <AccordionItem title={`${items.length} snoozed`}>
    <ul data-test="snoozed">
      {#each items as item (item.key)}
        <li>
          <strong>{item.where}</strong>
          <span><QuotedSentence text={item.reason.sentence} /></span>
          <span class="soft"
            >{item.snoozed?.member}, until {moment(item.snoozed?.until)}: {item.snoozed?.reason}</span
          >
          <InlineAction onclick={() => void lift(item)}>Show again</InlineAction>
        </li>
      {/each}
    </ul>
  </AccordionItem>
</Accordion>

<style>
  li {
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 0.75rem;
    padding: 0.3rem 0;
    overflow-wrap: anywhere;
  }
</style>
