/** The freezes that hold now, and whether one is about to be set. */
import { call } from "../../lib/api";
import type { Freeze } from "../../lib/types";

class Freezes {
  all = $state.raw<Freeze[]>([]);
  isAsking = $state(false);

  async load() {
    try {
      this.all = await call<Freeze[]>("GET", "/api/v1/freezes");
    } catch {
      // What was known stays; whoever changes something is told by the service.
    }
  }
}

export const freezes = new Freezes();
