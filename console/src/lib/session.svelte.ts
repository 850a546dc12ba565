/** Who is signed in, and the change that is being confirmed: what all pages share. */
import { call, keepKey, onSignedOut } from "./api";
import { live } from "./live.svelte";
import type { Container, Kind, Operation, OperationWish } from "./types";

class Session {
  /** "asking" until the service has said; then who, or that nobody is. */
  state = $state<"asking" | "unclaimed" | "out" | "in" | "unreachable">("asking");
  member = $state("");
  version = $state("");

  async ask() {
    try {
      const service = await call<{ unclaimed: boolean; version: string }>("GET", "/api/v1/service");
      this.version = service.version;
      if (service.unclaimed) {
        this.state = "unclaimed";
        return;
      }
      const me = await call<{ member: string }>("GET", "/api/v1/sessions/current");
      this.enter(me.member);
    } catch (error) {
      const status = (error as { problem?: { status: number } }).problem?.status;
      this.state = status === 401 ? "out" : "unreachable";
      if (this.state === "unreachable") setTimeout(() => void this.ask(), 2000);
    }
  }

  enter(member: string) {
    this.member = member;
    this.state = "in";
    live.start();
  }

  async leave() {
    try {
      await call("DELETE", "/api/v1/sessions/current");
    } finally {
      this.left();
    }
  }

  left() {
    keepKey(undefined);
    live.stop();
    this.member = "";
    this.state = "out";
  }
}

export const session = new Session();

onSignedOut(() => {
  if (session.state === "in") session.left();
});

/** A change with its targets: containers, or anything else with a whole request and a title. */
export interface Wish {
  kind: Kind;
  containers: Container[];
  request?: OperationWish;
  title?: string;
  /** Called once the request is accepted. */
  asked?: (operation: Operation) => void;
}

/** A change that somebody is about to ask for. */
class Pending {
  wish = $state.raw<Wish | null>(null);
}

export const pending = new Pending();
