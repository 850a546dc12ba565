import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { call, keyHeader, keepKey } from "../src/lib/api";
import { live } from "../src/lib/live.svelte";
import { session } from "../src/lib/session.svelte";
import { json, problem, service } from "./stand-ins";

const out = () => json(problem({ status: 401, type: "tag:gubernum,2026:not-signed-in" }), 401);
const known = () => json({ unclaimed: false, version: "0.1.0" });

beforeEach(() => {
  vi.useFakeTimers();
  vi.spyOn(live, "start").mockImplementation(() => {});
  vi.spyOn(live, "stop").mockImplementation(() => {});
  session.state = "asking";
});

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("who is signed in", () => {
  it("is asked of the service", async () => {
    service({
      "GET /api/v1/service": known,
      "GET /api/v1/sessions/current": () => json({ member: "mara" }),
    });
    await session.ask();
    expect([session.state, session.member, session.version]).toEqual(["in", "mara", "0.1.0"]);
    expect(live.start).toHaveBeenCalledOnce();
  });

  it("is nobody yet on a fresh service", async () => {
    service({ "GET /api/v1/service": () => json({ unclaimed: true, version: "0.1.0" }) });
    await session.ask();
    expect(session.state).toBe("unclaimed");
  });

  it("is nobody without a good session", async () => {
    service({ "GET /api/v1/service": known, "GET /api/v1/sessions/current": out });
    await session.ask();
    expect(session.state).toBe("out");
    expect(live.start).not.toHaveBeenCalled();
  });

  it("is asked again by itself while the service does not answer", async () => {
    let up = false;
    service({
      "GET /api/v1/service": () => (up ? known() : new TypeError("refused")),
      "GET /api/v1/sessions/current": out,
    });
    await session.ask();
    expect(session.state).toBe("unreachable");
    up = true;
    await vi.advanceTimersByTimeAsync(2000);
    expect(session.state).toBe("out");
  });
});

describe("signing out", () => {
  it("ends everything here even when the service does not answer", async () => {
    keepKey("k1");
    session.enter("mara");
    service({ "DELETE /api/v1/sessions/current": () => new TypeError("refused") });
    await expect(session.leave()).rejects.toThrow();
    expect([session.state, session.member, keyHeader()]).toEqual(["out", "", {}]);
    expect(live.stop).toHaveBeenCalledOnce();
  });

  it("by somebody else is noticed with the next call", async () => {
    session.enter("mara");
    service({ "GET /api/v1/hosts": out });
    await expect(call("GET", "/api/v1/hosts")).rejects.toThrow();
    expect(session.state).toBe("out");
  });
});
