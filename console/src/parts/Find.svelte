<!-- The search box (`/`): containers, hosts and pages by a few letters, from the keyboard. -->
<script lang="ts">
  import { reference } from "../lib/format";
  import { matcher } from "../lib/filter";
  import { live } from "../lib/live.svelte";
  import { go, query } from "../lib/router.svelte";
  import Mark from "./Mark.svelte";

  const MOST = 9;
  const PAGES = [
    { name: "Overview", path: "/" },
    { name: "Containers", path: "/containers" },
    { name: "Hosts", path: "/hosts" },
    { name: "Operations", path: "/operations" },
    { name: "Account and tokens", path: "/account" },
  ];

  let typed = $state("");
  let open = $state(false);
  let at = $state(0);

  const found = $derived.by(() => {
    const text = typed.trim().toLowerCase();
    if (!text) return [];
    const fits = matcher(text);
    const exact = (name: string) =>
      name.toLowerCase() === text ? 0 : name.toLowerCase().startsWith(text) ? 1 : 2;
    const containers = live.containers
      .filter(fits)
      .sort((a, b) => exact(a.name) - exact(b.name) || reference(a).localeCompare(reference(b)))
      .slice(0, MOST)
      .map((c) => ({ key: reference(c), note: c.image, container: c, pick: () => inspect(reference(c)) }));
    const hosts = live.hosts
      .filter((h) => h.name.toLowerCase().includes(text))
      .slice(0, 3)
      .map((h) => ({
        key: h.name,
        note: "host: its containers",
        container: null,
        pick: () => go(`/containers?hosts=${h.name}`),
      }));
    const pages = PAGES.filter((p) => p.name.toLowerCase().includes(text)).map((p) => ({
      key: p.name,
      note: "page",
      container: null,
      pick: () => go(p.path),
    }));
    return [...containers, ...hosts, ...pages].slice(0, MOST);
  });

  function inspect(name: string) {
    query({ inspect: name });
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
    placeholder="Find by name, image, id, label or port  ( / )"
    autocomplete="off"
    role="combobox"
    aria-expanded={open && found.length > 0}
    aria-controls="found"
    aria-label="Find anything"
    bind:value={typed}
    onfocus={() => (open = true)}
    onblur={() => setTimeout(() => (open = false), 150)}
    oninput={() => ((at = 0), (open = true))}
    onkeydown={keys}
  />
  {#if open && typed.trim()}
    <ul id="found" role="listbox">
      {#each found as one, index (one.key + one.note)}
        <li role="option" aria-selected={index === at}>
          <button tabindex="-1" onmousedown={() => pick(index)}>
            {#if one.container}<Mark container={one.container} />{/if}
            <span>{one.key}</span><small>{one.note}</small>
          </button>
        </li>
      {:else}
        <li class="none">Nothing in the fleet has “{typed.trim()}” in it.</li>
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
    min-width: 34rem;
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
