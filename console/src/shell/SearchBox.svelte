<!-- The search box (`/`): every object, page and action by a few letters, from the keyboard. -->
<script lang="ts">
  import { call } from "../lib/api";
  import { go } from "../lib/router.svelte";
  import { search, type Assets } from "./search";
  import StateMark from "../ui/StateMark.svelte";

  let typed = $state("");
  let open = $state(false);
  let at = $state(0);
  let closing: ReturnType<typeof setTimeout> | undefined;
  let assets = $state.raw<Assets>({ images: [], volumes: [], networks: [], ports: [] });

  const found = $derived(open ? search(typed, assets) : []);

  /** What is not live is fetched when somebody begins to look for something. */
  function begin() {
    clearTimeout(closing);
    open = true;
    for (const name of ["images", "volumes", "networks", "ports"] as const) {
      void call<never[]>("GET", `/api/v1/${name}`)
        .then((rows) => (assets = { ...assets, [name]: rows }))
        .catch(() => {});
    }
  }

  function pick(index: number) {
    const one = found[index];
    if (one) one.pick();
    else if (typed.trim()) go(`/containers?find=${encodeURIComponent(typed.trim())}`);
    typed = "";
    open = false;
    document.getElementById("find")?.blur();
  }

  function keys(event: KeyboardEvent) {
    if (event.key === "ArrowDown") at = Math.min(at + 1, found.length - 1);
    else if (event.key === "ArrowUp") at = Math.max(at - 1, 0);
    else if (event.key === "Enter") pick(at);
    else return;
    event.preventDefault();
  }
</script>

<div class="find" role="search">
  <input
    id="find"
    placeholder="Find anything: a name, a port, an image, restart …  ( / )"
    autocomplete="off"
    role="combobox"
    aria-expanded={open && found.length > 0}
    aria-controls="found"
    aria-label="Find anything"
    bind:value={typed}
    onfocus={begin}
    onblur={() => (closing = setTimeout(() => (open = false), 150))}
    oninput={() => {
      clearTimeout(closing);
      [at, open] = [0, true];
    }}
    onkeydown={keys}
  />
  {#if open && typed.trim()}
    <ul id="found" role="listbox">
      {#each found as one, index (one.key + one.note)}
        <li role="option" aria-selected={index === at}>
          <button tabindex="-1" onmousedown={() => pick(index)}>
            {#if one.container}<StateMark container={one.container} />{/if}
            <span>{one.key}</span><small>{one.note}</small>
          </button>
        </li>
      {:else}
        <li class="none">Nothing in the fleet contains “{typed.trim()}”.</li>
      {/each}
    </ul>
  {/if}
</div>

<style>
  .find {
    position: relative;
    align-self: center;
    margin-left: 1rem;
    width: 24rem;
    max-width: 30vw;
  }
  @media (max-width: 41.98rem) {
    .find {
      position: static;
      flex: 1;
      max-width: none;
      margin-left: 0;
    }
    .find ul {
      top: 3rem;
      width: 100vw;
    }
  }
  input {
    width: 100%;
    height: 2rem;
    padding: 0 0.7rem;
    border: 1px solid #47705a;
    background: #2a5139;
    color: #fff;
    font: inherit;
    font-size: 0.8125rem;
  }
  input::placeholder {
    color: #b6c9ba;
  }
  ul {
    position: absolute;
    z-index: 40;
    top: 2.25rem;
    left: 0;
    min-width: min(34rem, 96vw);
    background: var(--panel);
    border: 1px solid var(--line);
    box-shadow: 0 6px 18px rgb(0 0 0 / 25%);
  }
  li button {
    display: flex;
    gap: 0.6rem;
    align-items: center;
    width: 100%;
    padding: 0.45rem 0.7rem;
    border: 0;
    background: none;
    color: var(--cds-text-01);
    font: inherit;
    font-size: 0.875rem;
    text-align: left;
    cursor: pointer;
  }
  li[aria-selected="true"] button,
  li button:hover {
    background: var(--cds-hover-ui);
  }
  small {
    color: var(--cds-text-02);
    margin-left: auto;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 18rem;
  }
  .none {
    padding: 0.7rem;
    color: var(--cds-text-02);
    font-size: 0.875rem;
  }
</style>
