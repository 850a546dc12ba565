<!-- Earlier revisions of a container: what changed, when and by whom, and the rollback to each. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { Container } from "../../lib/types";
  import InlineAction from "../../ui/InlineAction.svelte";

  interface State {
    id: number;
    image: string;
    image_id: string;
    summary: string;
    operation: number;
    member: string;
    created: string;
  }

  let { container }: { container: Container } = $props();

  let all = $state.raw<State[] | null>(null);
  let wrong = $state("");

  $effect(() => {
    const path = `/api/v1/containers/${encodeURIComponent(container.host)}/${encodeURIComponent(container.name)}/earlier`;
    void container.id;
    call<State[]>("GET", path)
      .then((states) => ([all, wrong] = [states, ""]))
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  function back(state: State) {
    pending.wish = {
      kind: "rollback",
      containers: [container],
      request: { kind: "rollback", targets: [`${container.host}/${container.name}`], earlier: state.id },
    };
  }
</script>

<div class="facts" data-test="earlier">
  {#if wrong}<p class="soft">{wrong}</p>{/if}
  {#if all?.length === 0}
    <p class="soft">
      No earlier revisions. Each change or update keeps the previous revision here, available for rollback.
    </p>
  {/if}
  {#each all ?? [] as state (state.id)}
    <div class="state">
      <strong>Until {age(state.created, live.now)} ago</strong>
      <span class="mono">{state.image}</span>
      <span>{state.member} changed: {state.summary}</span>
      <span>
        <InlineAction onclick={() => back(state)}>Roll back to this…</InlineAction>
        <a href={`/operations/${state.operation}`}>Operation {state.operation}</a>
      </span>
    </div>
  {/each}
</div>

<style>
  .state {
    display: grid;
    gap: 0.15rem;
    padding: 0.6rem 0;
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
  }
  .state a {
    margin-left: 1rem;
  }
</style>
