<!-- The files of a stack: which is shown, which of them are the stack, and files or a whole folder from this machine. -->
<script lang="ts">
  import { sentence } from "../../lib/api";
  import type { StackDraft } from "./stackDraft.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import Upload from "../../ui/form/Upload.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

  let { draft }: { draft: StackDraft } = $props();

  /** What the service reads at most. */
  const LARGEST = 1024 * 1024;
  const MOST = 200;

  let wrong = $state("");
  let adding = $state(false);
  let newName = $state("");
  const names = $derived(Object.keys(draft.files).sort());

  async function take(files: File[]) {
    wrong = "";
    const added: Record<string, string> = {};
    if (files.length > MOST) {
      wrong = `${files.length} files; the limit is ${MOST}.`;
      return;
    }
    for (const file of files) {
      // A folder's own name is not part of the paths in it.
      const name = file.webkitRelativePath.split("/").slice(1).join("/") || file.name;
      if (/(^|\/)(\.git|node_modules)\//.test(name)) continue;
      if (file.size > LARGEST) {
        wrong = `${name} is larger than the limit of 1 MiB and was left out.`;
        continue;
      }
      try {
        added[name] = new TextDecoder("utf-8", { fatal: true }).decode(await file.arrayBuffer());
      } catch (error) {
        wrong = `${name} is not UTF-8 text and was left out. ${error instanceof TypeError ? "" : sentence(error)}`;
      }
    }
    if (Object.keys(added).length > 0) draft.addFiles(added);
  }

  function add(event: SubmitEvent) {
    event.preventDefault();
    const name = newName.trim();
    if (!name) return;
    if (name.startsWith("/") || name.split("/").includes("..")) {
      wrong = "Files must be in the stack's folder: write the path from there, without '..'.";
      return;
    }
    if (!(name in draft.files)) draft.files = { ...draft.files, [name]: "" };
    draft.shown = name;
    [newName, adding, wrong] = ["", false, ""];
  }
</script>

<div class="tools files">
  {#each names as name (name)}
    <span class="file">
      <ToolButton pressed={draft.shown === name} onclick={() => (draft.shown = name)}>{name}</ToolButton>
    </span>
  {/each}
  {#if adding}
    <form onsubmit={add}>
      <TextField
        name="Path of the new file"
        placeholder="conf/web.env"
        value={newName}
        onchange={(text) => (newName = text ?? "")}
      />
      <ToolButton type="submit">Add</ToolButton>
    </form>
  {:else}
    <ToolButton onclick={() => (adding = true)}>Add a file</ToolButton>
  {/if}
  <Upload multiple label="Upload files" onfiles={(files) => void take(files)} />
  <Upload multiple folder label="Upload a folder" onfiles={(files) => void take(files)} />
</div>
{#if names.length > 1}
  <div class="of-file">
    <CheckField
      label={`${draft.shown} is part of the stack's text${
        draft.main.length > 1 && draft.main.includes(draft.shown)
          ? ` (${draft.main.indexOf(draft.shown) + 1} of ${draft.main.length}, later files override earlier ones)`
          : ""
      }`}
      value={draft.main.includes(draft.shown)}
      onchange={(main) => draft.setMain(draft.shown, main)}
    />
    <InlineAction onclick={() => draft.removeFile(draft.shown)}>Remove this file</InlineAction>
  </div>
{/if}
{#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}

<style>
  .files {
    padding-bottom: 0.5rem;
  }
  form {
    display: flex;
    gap: 0.3rem;
  }
  .of-file {
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 1rem;
    font-size: 0.8125rem;
    padding-bottom: 0.4rem;
  }
  .wrong {
    color: var(--state-failed);
  }
</style>
