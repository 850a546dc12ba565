/** Who is signed in, and the change that is being confirmed: what all pages share. */
import { call, keepKey, onSignedOut } from "./api";
import { live } from "./live.svelte";
import { profile } from "./profile.svelte";
import { keepFor } from "./unsaved.svelte";
import type { Container, Kind, Operation, OperationWish, OwnRights, Right } from "./types";

class Session {
  /** "asking" until the service has said; then who, or that nobody is. */
  state = $state<"asking" | "unclaimed" | "out" | "in" | "unreachable">("asking");
  member = $state("");
  version = $state("");
  /** What is on the button that signs in at a provider, when there is one. */
  openid = $state("");
  /** What the member may; empty until the service has said. The service decides: this only hides what is never allowed. */
  #rights = $state.raw<OwnRights | null>(null);

  async ask() {
    try {
      const service = await call<{ unclaimed: boolean; version: string; openid?: string }>(
        "GET",
        "/api/v1/service",
      );
      this.version = service.version;
      this.openid = service.openid ?? "";
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
    keepFor(member);
    this.state = "in";
    live.start();
    void profile.load(true);
  }

  /** Asks what the member may: whenever a live connection begins. */
  async askRights() {
    try {
      this.#rights = await call<OwnRights>("GET", "/api/v1/rights");
    } catch {
      // The service refuses members without the right.
    }
  }

  /** Whether a right may be held on something; true until the service has said. */
  somewhere(right: Right): boolean {
    return this.#rights?.somewhere.includes(right) ?? true;
  }

  /** Whether a right is held on the whole fleet; false until the service has said. */
  onFleet(right: Right): boolean {
    return this.#rights?.on_fleet.includes(right) ?? false;
  }

  /** The rights that are held somewhere. */
  get rights(): Right[] {
    return this.#rights?.somewhere ?? [];
  }

  get hasSecondFactor(): boolean {
    return this.#rights?.second_factor ?? false;
  }

  /** Whether a role demands a second factor that is not there. */
  get needsSecondFactor(): boolean {
    return this.#rights?.needs_second_factor ?? false;
  }

  /** The role that is worked with until one steps up. */
  get worksAs(): string | undefined {
    return this.#rights?.works_as;
  }

  /** Until when this session has stepped up. */
  get steppedUntil(): string | undefined {
    return this.#rights?.stepped_until;
  }

  /** The role through which everything is looked at for now. */
  get viewAs(): string | undefined {
    return this.#rights?.view_as;
  }

  /** How many changes wait for this member's word. */
  get toApprove(): number {
    return this.#rights?.to_approve ?? 0;
  }

  /** Whether every right is held on the whole fleet. */
  get isAdmin(): boolean {
    return this.#rights?.on_fleet.length === this.#rights?.rights.length && this.#rights !== null;
  }

  /** Whether a kind of change may be allowed on something; true until the service has said. */
  mayChange(kind: Kind): boolean {
    return this.#rights?.changes.includes(kind) ?? true;
  }

  async leave() {
    // Members from a provider sign out there too.
    const end = await call<{ address?: string }>("GET", "/api/v1/openid/end").catch(() => ({ address: "" }));
    try {
      await call("DELETE", "/api/v1/sessions/current");
    } finally {
      this.left();
    }
    if (end.address) location.assign(end.address);
  }

  left() {
    keepKey(undefined);
    live.stop();
    profile.forget();
    this.member = "";
    this.#rights = null;
    this.state = "out";
  }
}

export const session = new Session();

// A connection ends when rights change, and the next begins with those that hold then.
live.onBegin(() => void session.askRights());

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
