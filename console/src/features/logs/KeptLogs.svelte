<!-- The rules by which log lines are kept beyond their containers. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { bytes } from "../../lib/format";
  import { Listing } from "../../lib/listing.svelte";
  import type { KeepRule } from "../../lib/types";

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
  let days = $state(14);
  let size = $state(2);
  let wrong = $state("");

  async function add() {
    wrong = "";
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
    Engines forget a container's lines when it is removed. What a rule names is copied to the service as it is
    written, and search goes over both.
  </p>
  <table class="rows">
    <tbody>
      {#each list.rows as rule (rule.id)}
        <tr>
          <td>{SCOPES[rule.scope]} <strong>{rule.value}</strong></td>
          <td>{rule.days} days, at most {bytes(rule.bytes)}</td>
          <td class="soft"
            >holds {bytes(rule.held)} of {rule.containers} container{rule.containers === 1 ? "" : "s"}; by {rule.member}</td
          >
          <td><button class="link" onclick={() => void remove(rule.id)}>End keeping</button></td>
        </tr>
      {:else}
        <tr><td class="soft">{list.fetching ? "Fetching…" : "Nothing is kept yet."}</td></tr>
      {/each}
    </tbody>
  </table>
  <form
    class="tools"
    onsubmit={(event) => {
      event.preventDefault();
      void add();
    }}
  >
    Keep lines of
    <select aria-label="Of what" bind:value={scope}>
      {#each Object.entries(SCOPES) as [key, words] (key)}<option value={key}>{words}</option>{/each}
    </select>
    {#if scope !== "all"}
      <input
        aria-label="Which"
        placeholder={scope === "container" ? "host/name" : scope === "label" ? "name=value" : "name"}
        bind:value
      />
    {/if}
    for <input class="number" type="number" min="1" max="3650" aria-label="Days" bind:value={days} /> days, at
    most
    <input class="number" type="number" min="0.1" step="0.1" aria-label="GiB" bind:value={size} /> GiB
    <button type="submit">Keep</button>
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
    width: 4.5rem;
  }
  .bad {
    color: var(--state-failed);
  }
  form {
    margin-top: 0.5rem;
  }
</style>
