/** A list of the API that a page shows, fetched again when what it is about has changed. */
import { call, sentence } from "./api";

const PAUSE = 1200;

export class Listing<T> {
  rows = $state.raw<T[]>([]);
  /** Nothing has been fetched yet. */
  fetching = $state(true);
  wrong = $state("");
  #path: string;
  #timer: ReturnType<typeof setTimeout> | undefined;
  #asked = 0;

  constructor(path: string) {
    this.#path = path;
    void this.fetch();
  }

  /** Fetches soon; many calls in a row are one. */
  soon() {
    if (this.#timer) return;
    this.#timer = setTimeout(() => {
      this.#timer = undefined;
      void this.fetch();
    }, PAUSE);
  }

  async fetch() {
    const asked = ++this.#asked;
    try {
      const rows = await call<T[]>("GET", this.#path);
      if (asked !== this.#asked) return;
      this.rows = rows;
      this.wrong = "";
    } catch (error) {
      this.wrong = sentence(error);
    } finally {
      this.fetching = false;
    }
  }

  end() {
    clearTimeout(this.#timer);
    this.#asked = -1;
  }
}
