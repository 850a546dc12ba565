/** What the member has set for itself, and what the console does with it. */
import { call } from "./api";
import { filtersOf, go, place } from "./router.svelte";
import { setTheme, theme } from "./theme.svelte";
import { times } from "./times.svelte";
import type { Profile } from "./types";

const PLAIN: Profile = {
  display_name: "",
  theme: "auto",
  clock: "24h",
  start_page: "",
  filters: {},
};

/** What an address has besides filters: it is not kept. */
const PASSING = ["inspect", "tab", "part", "show", "line", "with", "without"];

class OwnProfile {
  value = $state.raw<Profile>(PLAIN);

  /** Asks for it; the first page is the member's own when none was requested. */
  async load(isFresh: boolean) {
    try {
      this.#take(await call<Profile>("GET", "/api/v1/profile"));
    } catch {
      return;
    }
    if (!isFresh) return;
    if (place.path === "/" && place.query.size === 0 && this.value.start_page) go(this.value.start_page);
    else if (place.query.size === 0) go(place.path);
  }

  async save(changes: Partial<Profile>) {
    this.#take(await call<Profile>("PUT", "/api/v1/profile", { ...this.value, ...changes }));
  }

  /** The filters of the page that is shown, as they would be kept. */
  get shownFilters(): string {
    const query = new URLSearchParams(place.query);
    for (const name of PASSING) query.delete(name);
    return query.toString();
  }

  get keptFilters(): string {
    return this.value.filters?.[place.path] ?? "";
  }

  /** Keeps the filters of the page that is shown, or forgets them. */
  async keepFilters(keep: boolean) {
    const filters = { ...this.value.filters };
    if (keep) filters[place.path] = this.shownFilters;
    else delete filters[place.path];
    await this.save({ filters });
  }

  forget() {
    this.value = PLAIN;
    [times.clock, times.zone] = ["24h", undefined];
  }

  #take(profile: Profile) {
    this.value = profile;
    [times.clock, times.zone] = [profile.clock ?? "24h", profile.time_zone ?? undefined];
    if (profile.theme === "light" || profile.theme === "dark") setTheme(profile.theme);
  }

  async toggleTheme() {
    const next = theme.choice === "dark" ? "light" : "dark";
    setTheme(next);
    await this.save({ theme: next });
  }
}

export const profile = new OwnProfile();

filtersOf((path) => profile.value.filters?.[path] ?? "");
