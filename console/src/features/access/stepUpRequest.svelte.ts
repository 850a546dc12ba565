/** A pending request to step up, and the calls that wait for it. */
import { onStepUpNeeded } from "../../lib/api";

class Stepping {
  /** Why it is asked for; nothing while nobody is asked. */
  why = $state("");
  #waiting: ((stepped: boolean) => void)[] = [];

  /** Asks; whether they did. */
  ask(why: string): Promise<boolean> {
    this.why = why;
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  over(stepped: boolean) {
    this.why = "";
    for (const resolve of this.#waiting.splice(0)) resolve(stepped);
  }
}

export const stepping = new Stepping();

onStepUpNeeded((why) => stepping.ask(why));
