import { flushSync } from "svelte";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { live } from "../src/lib/live.svelte";
import type { LogListener } from "../src/lib/live.svelte";
import type { Problem, SourcedLine } from "../src/lib/types";
import { container, host, operation } from "./records";
import { json, problem, service, Wire } from "./stand-ins";

const api = container({ name: "frost-api" });
const gate = container({ name: "frost-gate", host: "coldstore" });

function snapshot(revision = 5) {
  const fleet = {
    epoch: "e1",
    revision,
    hosts: [host({ name: "packhouse" }), host({ name: "coldstore", state: "stale" })],
    containers: [api, gate],
  };
  return { type: "snapshot", id: 1, fleet };
}

function delta(revision: number, ...changes: unknown[]) {
  return { type: "delta", id: 1, delta: { revision, changes } };
}

/** What is told is drawn with the next frame. */
function drawn() {
  vi.advanceTimersByTime(50);
  flushSync();
}

class Heard implements LogListener {
  readonly told: unknown[] = [];
  lines(lines: SourcedLine[], bytes: number) {
    this.told.push(["lines", lines.length, bytes]);
  }
  note(source: string, text: string) {
    this.told.push(["note", source, text]);
  }
  reached(time: string) {
    this.told.push(["reached", time]);
  }
  ended(wrong: Problem | null) {
    this.told.push(["ended", wrong?.detail ?? null]);
  }
}

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("WebSocket", Wire);
  vi.stubGlobal("requestAnimationFrame", (draw: () => void) => setTimeout(draw, 16));
  service({ "GET /api/v1/sessions/current": () => json({ member: "mara" }) });
  Wire.all = [];
  live.start();
});

afterEach(() => {
  live.stop();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

function begin() {
  Wire.last.open();
  Wire.last.say(snapshot());
  drawn();
}

describe("the fleet", () => {
  it("is asked for when the connection stands, and there with its snapshot", () => {
    expect(live.status).toBe("connecting");
    Wire.last.open();
    expect(Wire.last.of("fleet")).toEqual([{ type: "fleet", id: 1, since: null }]);
    expect(Wire.last.of("operations").length).toBe(1);
    Wire.last.say(snapshot());
    drawn();
    expect(live.status).toBe("on");
    expect(live.hosts.map((h) => h.name)).toEqual(["coldstore", "packhouse"]);
    expect(live.containers.map((c) => c.name)).toEqual(["frost-api", "frost-gate"]);
    expect([...live.stale]).toEqual(["coldstore"]);
  });

  it("follows every change", () => {
    begin();
    const sick = { ...api, health: "unhealthy" };
    Wire.last.say(delta(6, { change: "container-put", container: sick }));
    Wire.last.say(delta(7, { change: "container-gone", host: "coldstore", id: gate.id }));
    Wire.last.say(delta(8, { change: "host-put", host: host({ name: "orchard", assets_revision: 4 }) }));
    drawn();
    expect(live.containers).toEqual([sick]);
    expect(live.hosts.map((h) => h.name)).toEqual(["coldstore", "orchard", "packhouse"]);
  });

  it("loses a host with all that is on it", () => {
    begin();
    Wire.last.say(delta(6, { change: "host-gone", host: "packhouse" }));
    drawn();
    expect(live.hosts.map((h) => h.name)).toEqual(["coldstore"]);
    expect(live.containers.map((c) => c.name)).toEqual(["frost-gate"]);
  });

  it("knows which stacks are not as they were applied, and forgets those that nobody keeps", () => {
    begin();
    const row = { host: "packhouse", stack: "frost", revision: 3, differs: ["frost-api"] };
    Wire.last.say({ type: "drift", id: 2, row });
    Wire.last.say({ type: "drift", id: 2, row: { ...row, stack: "ledger", differs: [] } });
    drawn();
    expect(live.drift.map((r) => [r.stack, r.differs.length])).toEqual([
      ["frost", 1],
      ["ledger", 0],
    ]);
    Wire.last.say({ type: "drift", id: 2, row: { ...row, differs: [] } });
    Wire.last.say({ type: "drift", id: 2, row: { ...row, stack: "ledger", revision: 0, differs: [] } });
    drawn();
    expect(live.drift.map((r) => [r.stack, r.differs.length])).toEqual([["frost", 0]]);
  });

  it("is drawn once for many changes", () => {
    begin();
    const before = live.containers;
    for (let n = 0; n < 50; n += 1) {
      Wire.last.say(delta(6 + n, { change: "container-put", container: { ...api, exit_code: n } }));
    }
    expect(live.containers).toBe(before);
    drawn();
    expect(live.containers[0]?.exit_code).toBe(49);
  });

  it("has a stamp that moves with images, volumes and networks of any host", () => {
    begin();
    const before = live.assetsStamp;
    Wire.last.say(delta(6, { change: "host-put", host: host({ name: "packhouse", assets_revision: 2 }) }));
    drawn();
    expect(live.assetsStamp).not.toBe(before);
  });

  it("finds a container by name, whole id or its beginning", () => {
    begin();
    expect(live.container("packhouse", "frost-api")).toEqual(api);
    expect(live.container("packhouse", api.id)).toEqual(api);
    expect(live.container("packhouse", api.id.slice(0, 12))).toEqual(api);
    expect(live.container("coldstore", "frost-api")).toBeUndefined();
  });
});

describe("a connection that breaks", () => {
  it("is made again, later each time, and goes on where it was", () => {
    begin();
    Wire.last.say(delta(9, { change: "container-put", container: api }));
    Wire.last.close();
    expect(live.status).toBe("lost");
    expect(live.hosts.length).toBe(2);
    for (const pause of [700, 1300, 2600]) {
      const made = Wire.all.length;
      vi.advanceTimersByTime(pause / 3);
      expect(Wire.all.length).toBe(made);
      vi.advanceTimersByTime(pause);
      expect(Wire.all.length).toBe(made + 1);
      if (pause < 2600) Wire.last.close();
    }
    Wire.last.open();
    expect(Wire.last.of("fleet")).toEqual([{ type: "fleet", id: 1, since: ["e1", 9] }]);
    expect(live.status).toBe("on");
  });

  it("asks whether anybody is signed in at all", () => {
    begin();
    Wire.last.close();
    expect(fetch).toHaveBeenCalledWith("/api/v1/sessions/current", expect.anything());
  });

  it("is not made again once nobody wants it", () => {
    begin();
    live.stop();
    drawn();
    vi.advanceTimersByTime(60_000);
    expect(Wire.all.length).toBe(1);
    expect([live.status, live.hosts.length, live.containers.length]).toEqual(["off", 0, 0]);
  });

  it("is one for the whole tab", () => {
    live.start();
    live.start();
    expect(Wire.all.length).toBe(1);
  });
});

describe("operations", () => {
  it("come newest first, each as it last was", () => {
    begin();
    for (const id of [3, 5, 4])
      Wire.last.say({ type: "operation", id: 2, operation: operation(id, ["waiting"]) });
    Wire.last.say({ type: "operation", id: 2, operation: operation(4, ["succeeded"]) });
    drawn();
    expect(live.operations.map((o) => [o.id, o.targets[0]?.state])).toEqual([
      [5, "waiting"],
      [4, "succeeded"],
      [3, "waiting"],
    ]);
  });

  it("are held up to two hundred, the oldest leave", () => {
    begin();
    for (let id = 1; id <= 205; id += 1)
      Wire.last.say({ type: "operation", id: 2, operation: operation(id, []) });
    drawn();
    expect([live.operations.length, live.operations.at(-1)?.id]).toEqual([200, 6]);
  });
});

describe("logs", () => {
  const wish = { references: ["packhouse/*"], follow: true };

  it("reach the one who asked, until they end", () => {
    begin();
    const [one, other] = [new Heard(), new Heard()];
    const id = live.log(wish, one);
    live.log(wish, other);
    expect(Wire.last.of("many-logs")[0]).toEqual({ type: "many-logs", id, wish });
    Wire.last.say({ type: "many-lines", id, lines: [{}, {}], bytes: 40 });
    Wire.last.say({ type: "log-note", id, note: { source: "packhouse/api", note: "was replaced" } });
    Wire.last.say({ type: "searched", id, progress: { reached: "2026-11-20T08:00:00Z" } });
    Wire.last.say({ type: "ended", id });
    Wire.last.say({ type: "many-lines", id, lines: [{}], bytes: 1 });
    expect(one.told).toEqual([
      ["lines", 2, 40],
      ["note", "packhouse/api", "was replaced"],
      ["reached", "2026-11-20T08:00:00Z"],
      ["ended", null],
    ]);
    expect(other.told).toEqual([]);
  });

  it("are paid for, and stopped when nobody reads them", () => {
    begin();
    const id = live.log(wish, new Heard());
    live.taken(id, 4096);
    live.endLog(id);
    live.endLog(id);
    expect(Wire.last.of("taken")).toEqual([{ type: "taken", id, bytes: 4096 }]);
    expect(Wire.last.of("stop")).toEqual([{ type: "stop", id }]);
  });

  it("that are refused or break off say why", () => {
    begin();
    const [refused, broken] = [new Heard(), new Heard()];
    const id = live.log(wish, refused);
    live.log(wish, broken);
    Wire.last.say({ type: "refused", id, problem: problem({ detail: "too many logs" }) });
    Wire.last.close();
    expect(refused.told).toEqual([["ended", "too many logs"]]);
    expect(broken.told).toEqual([["ended", "the connection to the service is lost"]]);
  });

  it("asked for without a connection end at once", () => {
    const heard = new Heard();
    live.log(wish, heard);
    expect(heard.told).toEqual([["ended", "the connection to the service is lost"]]);
  });
});

describe("use of resources", () => {
  it("is told to who looks, over a broken connection too, and to nobody else", () => {
    begin();
    const heard = vi.fn();
    const end = live.use(["packhouse/*"], heard);
    const { id } = Wire.last.of("use")[0] as { id: number };
    Wire.last.say({ type: "used", id, samples: [{}] });
    expect(heard).toHaveBeenCalledTimes(1);
    Wire.last.close();
    vi.advanceTimersByTime(2000);
    Wire.last.open();
    expect(Wire.last.of("use")).toEqual([{ type: "use", id, wish: { references: ["packhouse/*"] } }]);
    end();
    end();
    expect(Wire.last.of("stop").length).toBe(1);
    Wire.last.say({ type: "used", id, samples: [{}] });
    expect(heard).toHaveBeenCalledTimes(1);
  });
});
