<!-- Roles: those that came with the service, and those of the team, which are made and changed here. -->
<script lang="ts">
  import {
    Button,
    Checkbox,
    FormGroup,
    InlineNotification,
    StructuredList,
    StructuredListBody,
    StructuredListCell,
    StructuredListHead,
    StructuredListRow,
    TextInput,
  } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import { go } from "../../lib/router.svelte";
  import { session } from "../../lib/session.svelte";
  import type { Right, Role } from "../../lib/types";
  import { rightsOf } from "./members";

  let { roles, rights, onchanged }: { roles: Role[]; rights: Right[]; onchanged: () => Promise<void> } =
    $props();

  let name = $state("");
  let chosen = $state.raw<Right[]>(["see"]);
  let demands = $state(false);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  const known = $derived(roles.find((role) => role.name === name.trim() && !role.built_in));

  async function guarded(what: () => Promise<unknown>) {
    busy = true;
    wrong = null;
    try {
      await what();
      await onchanged();
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  const set = () =>
    guarded(async () => {
      await call("PUT", "/api/v1/roles", { name: name.trim(), rights: chosen, second_factor: demands });
      [name, chosen, demands] = ["", ["see"], false];
    });

  /** What the role does not see is not there any more, perhaps this page too: the first page is for everybody. */
  async function viewAs(role: string) {
    busy = true;
    try {
      await call("PUT", "/api/v1/view-as", { role });
      go("/", false);
    } catch (error) {
      wrong = { text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  function toggle(right: Right, on: boolean) {
    chosen = rights.filter((one) => (one === right ? on : chosen.includes(one)));
  }
</script>

{#if wrong && !wrong.field}
  <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
{/if}
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="wide" tabindex="0" role="region" aria-label="Roles">
  <StructuredList condensed>
    <StructuredListHead>
      <StructuredListRow head>
        <StructuredListCell head>Role</StructuredListCell>
        <StructuredListCell head>Rights</StructuredListCell>
        <StructuredListCell head>Change</StructuredListCell>
      </StructuredListRow>
    </StructuredListHead>
    <StructuredListBody>
      {#each roles as role (role.name)}
        <StructuredListRow>
          <StructuredListCell>{role.name}</StructuredListCell>
          <StructuredListCell
            >{rightsOf(role)}{role.second_factor ? "; requires a second factor" : ""}</StructuredListCell
          >
          <StructuredListCell noWrap>
            <div class="acts">
              <Button size="small" kind="ghost" disabled={busy} on:click={() => void viewAs(role.name)}
                >View as</Button
              >
              {#if role.built_in}
                <span class="soft">built-in</span>
              {:else}
                <Button
                  size="small"
                  kind="ghost"
                  on:click={() => {
                    [name, chosen, demands] = [role.name, role.rights, role.second_factor];
                  }}>Edit</Button
                >
                <Button
                  size="small"
                  kind="ghost"
                  disabled={busy}
                  on:click={() =>
                    void guarded(() => call("DELETE", `/api/v1/roles/${encodeURIComponent(role.name)}`))}
                  >Remove</Button
                >
              {/if}
            </div>
          </StructuredListCell>
        </StructuredListRow>
      {/each}
    </StructuredListBody>
  </StructuredList>
</div>

<h2>{known ? `Change ${known.name}` : "New role"}</h2>
<form
  onsubmit={(event) => {
    event.preventDefault();
    void set();
  }}
>
  <TextInput
    id="role-name"
    size="sm"
    labelText="Name"
    placeholder="night-shift"
    bind:value={name}
    invalid={wrong?.field === "/name"}
    invalidText={wrong?.text ?? ""}
  />
  <FormGroup legendText="Rights" invalid={wrong?.field === "/rights"}>
    <div class="rights">
      {#each rights as right (right)}
        <Checkbox
          id={`right-${right}`}
          labelText={right}
          checked={chosen.includes(right)}
          disabled={right === "see" || !session.onFleet(right)}
          on:check={(event) => toggle(right, event.detail)}
        />
      {/each}
    </div>
    {#if wrong?.field === "/rights"}<p class="bad">{wrong.text}</p>{/if}
  </FormGroup>
  <Checkbox id="role-demands" labelText="Requires a second factor" bind:checked={demands} />
  <Button size="small" type="submit" disabled={busy || !name.trim()}
    >{known ? "Save role" : "Add role"}</Button
  >
</form>

<style>
  .acts {
    display: flex;
    align-items: center;
    gap: 0.25rem;
  }
  .wide {
    overflow-x: auto;
  }
  .wide :global(.bx--structured-list) {
    margin-bottom: 0.5rem;
  }
  h2 {
    font-size: 1rem;
    margin: 1.25rem 0 0.75rem;
  }
  form {
    display: flex;
    flex-direction: column;
    align-items: flex-start;
    gap: 1rem;
    max-width: 44rem;
  }
  .rights {
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(9.5rem, 1fr));
    gap: 0 1rem;
    min-width: min(40rem, 80vw);
  }
  .bad {
    color: var(--state-failed);
  }
</style>
