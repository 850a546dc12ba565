import { beforeEach, describe, expect, it, vi } from "vitest";

import { ApiError, call, download, keepKey, onSignedOut, openSocket, sentence, unique } from "../src/lib/api";
import { json, problem, service, Wire } from "./stand-ins";

beforeEach(() => {
  localStorage.clear();
  vi.unstubAllGlobals();
});

const failure = async (work: Promise<unknown>): Promise<ApiError> => {
  const error = await work.then(
    () => null,
    (e: unknown) => e,
  );
  expect(error).toBeInstanceOf(ApiError);
  return error as ApiError;
};

describe("calls", () => {
  it("carry the session's key, a body as JSON and the key of a change", async () => {
    keepKey("k1");
    const asked = service({ "POST /api/v1/operations": () => json({ id: 7 }) });
    expect(await call("POST", "/api/v1/operations", { kind: "stop" }, "once")).toEqual({ id: 7 });
    expect(asked[0]?.body).toEqual({ kind: "stop" });
    expect(asked[0]?.headers).toEqual({
      "Gubernum-Key": "k1",
      "Content-Type": "application/json",
      "Idempotency-Key": "once",
    });
  });

  it("without a body say nothing of one, and after signing out carry no key", async () => {
    keepKey("k1");
    keepKey(undefined);
    const asked = service({ "GET /api/v1/hosts": () => json([]) });
    await call("GET", "/api/v1/hosts");
    expect(asked[0]?.headers).toEqual({});
  });

  it("with nothing in the answer give nothing", async () => {
    service({ "DELETE /api/v1/tokens/1": () => json(null, 204) });
    expect(await call("DELETE", "/api/v1/tokens/1")).toBeUndefined();
  });

  it("that are refused carry the service's own sentence", async () => {
    const refused = problem({ status: 409, detail: "the host `orchard` cannot be reached", field: "/host" });
    service({ "POST /api/v1/hosts": () => json(refused, 409) });
    const error = await failure(call("POST", "/api/v1/hosts", {}));
    expect(error.problem).toEqual(refused);
    expect(sentence(error)).toBe("The host `orchard` cannot be reached.");
  });

  it("to a service that does not answer say so", async () => {
    service({ "GET /api/v1/hosts": () => new TypeError("connection refused") });
    const error = await failure(call("GET", "/api/v1/hosts"));
    expect([error.problem.type, error.problem.status]).toEqual(["unreachable", 0]);
    expect(sentence(error)).toMatch(/^The service does not answer\./);
  });

  it("answered by something else name the status", async () => {
    service({ "GET /api/v1/hosts": () => new Response("<html>Bad gateway</html>", { status: 502 }) });
    const error = await failure(call("GET", "/api/v1/hosts"));
    expect(error.problem.status).toBe(502);
    expect(sentence(error)).toContain("502");
  });

  it("tell when nobody is signed in any more, and only then", async () => {
    const told = vi.fn();
    onSignedOut(told);
    service({
      "GET /a": () => json(problem({ status: 401, type: "tag:gubernum,2026:not-signed-in" }), 401),
      "GET /b": () => json(problem({ status: 403, type: "tag:gubernum,2026:not-allowed" }), 403),
    });
    await failure(call("GET", "/b"));
    expect(told).not.toHaveBeenCalled();
    await failure(call("GET", "/a"));
    expect(told).toHaveBeenCalledOnce();
  });
});

it("a sentence begins large and ends once", () => {
  expect(sentence(new Error("no such host"))).toBe("No such host.");
  expect(sentence(new Error("Is it there?"))).toBe("Is it there?");
  expect(sentence("odd")).toBe("odd");
});

it("a WebSocket carries the key as a subprotocol, over TLS where the page came so", () => {
  vi.stubGlobal("WebSocket", Wire);
  expect((openSocket("/api/v1/live") as unknown as Wire).protocols).toEqual(["gubernum"]);
  keepKey("k1");
  const wire = openSocket("/api/v1/live") as unknown as Wire;
  expect(wire.protocols).toEqual(["gubernum", "gubernum-key.k1"]);
  expect(wire.address).toBe(`ws://${location.host}/api/v1/live`);
  vi.stubGlobal("location", { protocol: "https:", host: "gubernum.tarnvalley.example" });
  expect((openSocket("/x") as unknown as Wire).address).toBe("wss://gubernum.tarnvalley.example/x");
});

it("a download by link asks for a ticket first, and leaves no link behind", async () => {
  const address = "/api/v1/volumes/packhouse/data/archive?ticket=t";
  const asked = service({ "POST /api/v1/tickets": () => json({ address }) });
  const clicked: string[] = [];
  const listen = (event: Event) => {
    const link = event.target as HTMLAnchorElement;
    clicked.push(`${link.getAttribute("href")} as ${link.download}`);
    event.preventDefault();
  };
  document.addEventListener("click", listen);
  await download("/api/v1/volumes/packhouse/data/archive", "data.tar");
  document.removeEventListener("click", listen);
  expect(asked[0]?.body).toEqual({ path: "/api/v1/volumes/packhouse/data/archive" });
  expect(clicked).toEqual([`${address} as data.tar`]);
  expect(document.querySelector("a")).toBeNull();
});

it("no two unique texts are the same", () => {
  const all = new Set(Array.from({ length: 200 }, unique));
  expect(all.size).toBe(200);
  for (const text of all) expect(text).toMatch(/^[0-9a-f]{32}$/);
});
