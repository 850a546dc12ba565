<!-- The rules by which log lines are kept beyond their containers. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { call, sentence } from "../../lib/api";
  import { bytes } from "../../lib/format";
  import { Listing } from "../../lib/listing.svelte";
  import type { KeepRule } from "../../lib/types";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";

  const SCOPES = {
    container: "the container",
    label: "the label",
    stack: "the stack",
    host: "the host",
    all: "everything",
  };
  const GIB = 1024 ** 3;

  const list = new Listing<KeepRule>("/api/v1/kept-logs");
  let scope = $state<keyof typeof SCOPES>("stack");
  let value = $state("");
  let days = $state<number | undefined>(14);
  let size = $state<number | undefined>(2);
  let wrong = $state("");

  async function add() {
    wrong = "";
    if (!days || !size) {
      wrong = "Enter for how many days, and how many GiB at most.";
      return;
    }
    try {
      await call("POST", "/api/v1/kept-logs", {
        scope,
        value: scope === "all" ? "" : value.trim(),
        days,
        bytes: Math.round(size * GIB),
      });
      value = "";
      await list.fetch();
    } catch (error) {
      wrong = sentence(error);
    }
  }

  async function remove(id: number) {
    try {
      await call("DELETE", `/api/v1/kept-logs/${id}`);
      await list.fetch();
    } catch (error) {
      wrong = sentence(error);
    }
  }
</script>

<div class="kept" data-test="kept">
  <p class="soft">
    Engines delete a container's log when it is removed. A retention rule copies lines to the service, and
    search covers both.
  </p>
  <Rows>
    <tbody>
      {#each list.rows as rule (rule.id)}
        <tr>
          <td>{SCOPES[rule.scope]} <strong>{rule.value}</strong></td>
          <td>{rule.days} days, at most {bytes(rule.bytes)}</td>
          <td class="soft"
            >holds {bytes(rule.held)} of {rule.containers} container{rule.containers === 1 ? "" : "s"}; by {rule.member}</td
          >
          <td><InlineAction onclick={() => void remove(rule.id)}>Remove rule</InlineAction></td>
        </tr>
      {:else}
        <tr><td class="soft">{list.fetching ? "Loading…" : "No rules yet."}</td></tr>
      {/each}
    </tbody>
  </Rows>
  <form
    class="tools"
    onsubmit={(event) => {
      event.preventDefault();
      void add();
    }}
  >
    Keep lines of
    <SelectField
      name="Scope"
      value={scope}
      options={Object.entries(SCOPES)}
      onchange={(next) => (scope = next as typeof scope)}
    />
    {#if scope !== "all"}
      <TextField
        name="Which"
        placeholder={scope === "container" ? "host/name" : scope === "label" ? "name=value" : "name"}
        {value}
        onchange={(text) => (value = text ?? "")}
      />
    {/if}
    for
    <span class="number"
      ><QuantityField
        kind="whole"
        most={3650}
        name="Days"
        value={days}
        onchange={(next) => (days = next)}
      /></span
    >
    days, at most
    <span class="number"
      ><QuantityField kind="number" name="GiB" value={size} onchange={(next) => (size = next)} /></span
    >
    GiB
    <ToolButton type="submit">Keep</ToolButton>
    {#if wrong}<span class="bad">{wrong}</span>{/if}
  </form>
</div>

<style>
  .kept {
    padding: 0.6rem 1rem;
    border-bottom: 1px solid var(--line);
    background: var(--panel);
  }
  .number {
    --field-width: 4.5rem;
  }
  .bad {
    color: var(--state-failed);
  }
  form {
    margin-top: 0.5rem;
  }
</style>
