/** The window's title and icon: the page, and how much needs attention, for members who have the console open behind other windows. */
import { attention } from "../features/fleet/attention.svelte";
import { notices } from "../lib/notices.svelte";

const PLAIN = "/mark.svg";

/** The mark with a spot beside it: something needs attention. Drawn as the file is, so that the content policy stays. */
const SPOTTED = "/mark-attention.svg";

/** Shows a page's name; the number of things that need attention is before it. */
export function showTitle(page: string | undefined, signedIn: boolean) {
  const count = signedIn ? attention.urgent : 0;
  const name = page ? `${page} · Gubernum` : "Gubernum";
  document.title = `${notices.title}${count > 0 ? `(${count}) ` : ""}${name}`;
  const icon = document.querySelector<HTMLLinkElement>("link[rel=icon]");
  const wanted = count > 0 ? SPOTTED : PLAIN;
  if (icon && icon.getAttribute("href") !== wanted) icon.href = wanted;
}
