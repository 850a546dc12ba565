/** Addresses of the console: a path for the page, and in the query what is inspected and filtered. */

import { keepNow, unlessUnsaved } from "./unsaved.svelte";

export const place = $state({ path: location.pathname, query: new URLSearchParams(location.search) });

function read() {
  place.path = location.pathname;
  place.query = new URLSearchParams(location.search);
}

addEventListener("popstate", read);

/** The filters with which a page opens when its address has none. */
let filters: (path: string) => string = () => "";

export function filtersOf(of: (path: string) => string) {
  filters = of;
}

/** Goes to another page. What is inspected stays open. */
export function go(path: string, keep = true) {
  catchUp();
  const url = new URL(path, location.origin);
  if (url.search === "") url.search = filters(url.pathname);
  const inspected = place.query.get("inspect");
  if (keep && inspected && !url.searchParams.has("inspect")) url.searchParams.set("inspect", inspected);
  if (url.pathname + url.search === location.pathname + location.search) return;
  const there = () => {
    keepNow();
    history.pushState(null, "", url.pathname + tidy(url.searchParams));
    read();
  };
  if (url.pathname === location.pathname) there();
  else unlessUnsaved(there);
}

/** Milliseconds until the browser's own address follows what is typed: it takes as long as filtering thousands of rows. */
const FOLLOWS = 150;
let following: ReturnType<typeof setTimeout> | undefined;

/** Changes parts of the query as it is typed: the page follows at once, the browser's address when the typing pauses. */
export function typedQuery(changes: Record<string, string | null>) {
  place.query = changed(changes);
  clearTimeout(following);
  following = setTimeout(catchUp, FOLLOWS);
}

/** Lets the browser's address say what the page shows. */
function catchUp() {
  if (following === undefined) return;
  clearTimeout(following);
  following = undefined;
  history.replaceState(history.state, "", location.pathname + tidy(place.query));
}

function changed(changes: Record<string, string | null>): URLSearchParams {
  const next = new URLSearchParams(place.query);
  for (const [key, value] of Object.entries(changes)) {
    if (value === null || value === "") next.delete(key);
    else next.set(key, value);
  }
  return next;
}

/** Changes parts of the query; null removes one. `replace` leaves no step to go back to. */
export function query(changes: Record<string, string | null>, replace = false) {
  catchUp();
  const next = changed(changes);
  const address = location.pathname + tidy(next);
  if (replace) history.replaceState(history.state, "", address);
  else {
    keepNow();
    // It is the same page: what its form keeps is kept by the new step too.
    history.pushState(history.state, "", address);
  }
  read();
}

/** Slashes, colons and commas need no escape in a query and read better without. */
function tidy(parameters: URLSearchParams): string {
  const text = parameters.toString().replace(/%2F/g, "/").replace(/%3A/g, ":").replace(/%2C/g, ",");
  return text ? `?${text}` : "";
}

/** A click on a link of ours stays in the page; with a modifier the browser does as always. */
export function follow(event: MouseEvent) {
  const link = (event.target as Element | null)?.closest("a");
  if (!link || event.defaultPrevented || event.button !== 0) return;
  if (event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
  if (link.target || link.hasAttribute("download") || link.origin !== location.origin) return;
  if (link.pathname.startsWith("/api/") || link.pathname === "/openapi.json") return;
  event.preventDefault();
  go(link.pathname + link.search);
}
