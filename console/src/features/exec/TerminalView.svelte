<!-- A terminal in a container. It stays open for a minute while nobody is attached, so a page can be reloaded: the open
terminal is remembered in the tab's storage. -->
<script lang="ts">
  import { FitAddon } from "@xterm/addon-fit";
  import { Terminal } from "@xterm/xterm";
  import "@xterm/xterm/css/xterm.css";
  import { Button } from "carbon-components-svelte";
  import { onDestroy, tick } from "svelte";
  import { call, openSocket, sentence } from "../../lib/api";
  import { reference } from "../../lib/format";
  import { theme } from "../../lib/theme.svelte";
  import type { Container } from "../../lib/types";
  import RunOnce from "./RunOnce.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import Switcher from "../../ui/Switcher.svelte";

  let { container }: { container: Container } = $props();

  interface Opened {
    id: string;
    command: string[];
    attached?: boolean;
  }
  interface End {
    exit_code?: number;
    sentence: string;
  }

  /** A paste goes in pieces, so that keys pressed meanwhile are not held up behind it. */
  const PIECE = 32 * 1024;
  const RETRY = 700;

  const key = $derived(`gubernum.terminal.${reference(container)}`);
  let shells = $state.raw<string[] | null>(null);
  let shell = $state("");
  /** A shell, or the container's own process. */
  let attach = $state(false);
  let user = $state("");
  let folder = $state("");
  let wrong = $state("");
  let opened = $state.raw<Opened | null>(null);
  let ended = $state.raw<End | null>(null);
  let place = $state<HTMLDivElement>();
  let screen: Terminal | undefined;
  let fit: FitAddon | undefined;
  let socket: WebSocket | undefined;
  let watcher: ResizeObserver | undefined;
  let gone = false;

  const base = $derived(
    `/api/v1/containers/${encodeURIComponent(container.host)}/${encodeURIComponent(container.name)}`,
  );

  $effect(() => {
    void container.id;
    void begin();
  });

  async function begin() {
    try {
      const kept = sessionStorage.getItem(key);
      if (kept && !opened) {
        const mine = await call<Opened[]>("GET", "/api/v1/terminals");
        const again = mine.find((t) => t.id === kept);
        if (again) return void show(again);
        sessionStorage.removeItem(key);
      }
      const found = await call<{ shells: string[] }>("GET", `${base}/shells`);
      [shells, wrong] = [found.shells, ""];
      shell = found.shells[0] ?? "";
    } catch (error) {
      wrong = sentence(error);
    }
  }

  async function open() {
    try {
      ended = null;
      const body = {
        container: reference(container),
        columns: 80,
        rows: 24,
        ...(attach
          ? { attach }
          : {
              ...(shell ? { shell } : {}),
              ...(user.trim() ? { user: user.trim() } : {}),
              ...(folder.trim() ? { folder: folder.trim() } : {}),
            }),
      };
      await show(await call<Opened>("POST", "/api/v1/terminals", body));
    } catch (error) {
      wrong = sentence(error);
    }
  }

  function colours() {
    return theme.choice === "dark"
      ? { background: "#161616", foreground: "#f4f4f4", cursor: "#e0b84c", selectionBackground: "#4a4a3a" }
      : {
          background: "#ffffff",
          foreground: "#161616",
          cursor: "#1c3d2a",
          selectionBackground: "#e8dcb0",
          yellow: "#8a6d1d",
          brightYellow: "#8a6d1d",
          white: "#525252",
          green: "#2f7d4f",
          brightWhite: "#161616",
        };
  }

  async function show(it: Opened) {
    opened = it;
    wrong = "";
    sessionStorage.setItem(key, it.id);
    await tick();
    if (!place) return;
    screen = new Terminal({
      fontFamily: "IBM Plex Mono, ui-monospace, monospace",
      fontSize: 13,
      scrollback: 5000,
      theme: colours(),
      screenReaderMode: false,
    });
    fit = new FitAddon();
    screen.loadAddon(fit);
    screen.open(place);
    screen.onData(type);
    screen.onBinary((text) => socket?.send(Uint8Array.from(text, (c) => c.charCodeAt(0))));
    screen.onResize(({ cols, rows }) => tellSize(cols, rows));
    watcher = new ResizeObserver(() => fit?.fit());
    watcher.observe(place);
    fit.fit();
    screen.focus();
    hold();
  }

  const encoder = new TextEncoder();

  function type(text: string) {
    const bytes = encoder.encode(text);
    for (let at = 0; at < bytes.length; at += PIECE) socket?.send(bytes.slice(at, at + PIECE));
  }

  function tellSize(columns: number, rows: number) {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify({ resize: [columns, rows] }));
  }

  function hold() {
    if (!opened || gone) return;
    const own = openSocket(`/api/v1/terminals/${opened.id}`);
    own.binaryType = "arraybuffer";
    socket = own;
    let first = true;
    own.onopen = () => screen && tellSize(screen.cols, screen.rows);
    own.onmessage = (event) => {
      if (typeof event.data === "string") {
        const told = JSON.parse(event.data) as { ended?: End };
        if (told.ended) over(told.ended);
        return;
      }
      // What it said last comes first: what is on the screen from before would appear twice.
      if (first) screen?.reset();
      first = false;
      screen?.write(new Uint8Array(event.data as ArrayBuffer));
    };
    own.onclose = () => {
      if (gone || ended || socket !== own) return;
      setTimeout(() => {
        call<Opened[]>("GET", "/api/v1/terminals")
          .then((mine) => (mine.some((t) => t.id === opened?.id) ? hold() : over({ sentence: "Ended." })))
          .catch(() => hold());
      }, RETRY);
    };
  }

  function over(end: End) {
    ended = end;
    sessionStorage.removeItem(key);
  }

  async function close() {
    if (opened && !ended) {
      await call("DELETE", `/api/v1/terminals/${opened.id}`).catch(() => {});
    }
    away();
    opened = null;
    ended = null;
    void begin();
  }

  function away() {
    watcher?.disconnect();
    screen?.dispose();
    [screen, fit] = [undefined, undefined];
    const own = socket;
    socket = undefined;
    own?.close();
  }

  $effect(() => {
    const now = colours();
    if (screen) screen.options.theme = now;
  });

  onDestroy(() => {
    gone = true;
    away();
  });
</script>

{#if !opened}
  <div class="facts">
    {#if wrong}<p class="wrong" role="alert" data-test="terminal-wrong">{wrong}</p>{/if}
    {#if container.state !== "running"}
      <p class="soft">Not running. Start it to open a terminal.</p>
    {:else if shells}
      <div class="tools">
        <Switcher
          name="Program"
          value={attach}
          options={[
            [false, "A shell"],
            [true, "Main process"],
          ]}
          onchange={(next) => (attach = next)}
        />
      </div>
      {#if attach}
        <p class="soft">
          Shows the output of the container's main process from now on and sends it your keys, Ctrl-C too.
          Detaching does not stop it. Earlier output is in its logs.
        </p>
        <Button size="small" on:click={() => void open()}>Attach</Button>
      {:else if shells.length === 0}
        <p data-test="terminal-wrong">
          This image has no shell. You can still run one of its programs below.
        </p>
      {:else}
        <form
          onsubmit={(e) => {
            e.preventDefault();
            void open();
          }}
        >
          <SelectField
            label="Shell"
            name="Shell"
            value={shell}
            options={shells.map((s): [string, string] => [s, s])}
            onchange={(next) => (shell = next)}
          />
          <TextField
            label="User"
            name="User of the terminal"
            placeholder="the container's own"
            value={user}
            onchange={(text) => (user = text ?? "")}
          />
          <TextField
            label="Folder"
            name="Folder of the terminal"
            placeholder="the container's own"
            value={folder}
            onchange={(text) => (folder = text ?? "")}
          />
          <Button size="small" type="submit">Open a terminal</Button>
        </form>
      {/if}
      <p class="soft">Each session is recorded in the audit log: who, where and how long.</p>
      <h3>One command</h3>
      <RunOnce container={reference(container)} />
    {:else if !wrong}
      <p class="soft">Looking for shells…</p>
    {/if}
  </div>
{:else}
  <div class="terminal">
    <div class="tools bar">
      <span class="mono">{opened.command.join(" ")}</span>
      {#if ended}<strong data-test="terminal-ended">{ended.sentence}</strong>{/if}
      <span class="push"></span>
      <ToolButton onclick={() => void close()}>{!ended && opened.attached ? "Detach" : "Close"}</ToolButton>
    </div>
    <div class="screen" bind:this={place} data-test="terminal"></div>
  </div>
{/if}

<style>
  form {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr)) auto;
    gap: 0.8rem;
    align-items: end;
  }
  .wrong {
    color: var(--state-failed);
  }
  .tools {
    margin-bottom: 0.6rem;
  }
  .terminal {
    flex: 1;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  .screen {
    flex: 1;
    min-height: 0;
    padding: 0.4rem 0.6rem;
    overflow: hidden;
  }
</style>
