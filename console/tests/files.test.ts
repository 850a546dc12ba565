import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { eachLine, filesOf, raw, send } from "../src/features/files/files";
import { ApiError } from "../src/lib/api";
import { json, problem, service } from "./stand-ins";
import type { Asked } from "./stand-ins";

const BASE = "/api/v1/containers/packhouse/row";
const broken = () => new TypeError("the connection broke");

beforeEach(() => vi.useFakeTimers());
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const text = async (asked: Asked | undefined) => await (asked?.body as Blob).text();

/** Sends ten bytes; every wait between tries passes at once. */
async function upload(tell: (words: string) => void = () => {}) {
  const sent = send(BASE, "/data/a b.txt", new Blob(["0123456789"]), tell).then(
    () => "sent",
    (error: unknown) => error,
  );
  await vi.advanceTimersByTimeAsync(60_000);
  return await sent;
}

it("files are reached by the object's own address", () => {
  expect(filesOf("container", "packhouse/row")).toBe(BASE);
  expect(filesOf("volume", "packhouse/odd name")).toBe("/api/v1/volumes/packhouse/odd%20name");
});

describe("sending a file", () => {
  it("goes in one piece when nothing is in its way", async () => {
    const asked = service({ [`PUT ${BASE}/file`]: () => json(null, 204) });
    expect(await upload()).toBe("sent");
    expect(asked.length).toBe(1);
    expect(asked[0]?.path).toMatch(/\?path=%2Fdata%2Fa%20b\.txt&upload=[0-9a-f]{32}$/);
    expect(await text(asked[0])).toBe("0123456789");
  });

  it("goes on behind what has come when the connection breaks", async () => {
    let tries = 0;
    const asked = service({
      [`PUT ${BASE}/file`]: () => ((tries += 1) === 1 ? broken() : json(null, 204)),
      [`GET ${BASE}/file-upload`]: () => json({ received: 6 }),
    });
    const told = vi.fn();
    expect(await upload(told)).toBe("sent");
    const puts = asked.filter((a) => a.method === "PUT");
    expect(puts[1]?.path).toBe(`${puts[0]?.path}&from=6`);
    expect(await text(puts[1])).toBe("6789");
    expect(told).toHaveBeenCalledWith("Connection lost; resuming…");
  });

  it("asks again where it stands while the service is away", async () => {
    let asks = 0;
    let puts = 0;
    service({
      [`PUT ${BASE}/file`]: () => ((puts += 1) === 1 ? broken() : json(null, 204)),
      [`GET ${BASE}/file-upload`]: () => ((asks += 1) < 3 ? broken() : json({ received: 0 })),
    });
    expect(await upload()).toBe("sent");
    expect([puts, asks]).toEqual([2, 3]);
  });

  it("gives up after five broken connections", async () => {
    const asked = service({ [`PUT ${BASE}/file`]: broken, [`GET ${BASE}/file-upload`]: broken });
    expect(await upload()).toBeInstanceOf(TypeError);
    expect(asked.length).toBe(6);
  });

  it("is not tried again when it is refused", async () => {
    const refused = problem({ status: 403, detail: "this is a folder of the host" });
    const asked = service({ [`PUT ${BASE}/file`]: () => json(refused, 403) });
    expect(await upload()).toEqual(new ApiError(refused));
    expect(asked.length).toBe(1);
  });
});

describe("answers that are no JSON", () => {
  it("come as they are, problems as problems", async () => {
    service({ "GET /x": () => new Response("plain"), "GET /y": () => json(problem({ status: 404 }), 404) });
    expect(await (await raw("GET", "/x")).text()).toBe("plain");
    await expect(raw("GET", "/y")).rejects.toThrow(ApiError);
  });

  it("are read line by line, wherever their pieces end", async () => {
    const pieces = ['{"n":1}\n{"n"', ":2}\n\n", '{"t":"ä', 'pfel"}\n', '{"n":4'];
    const bytes = new TextEncoder().encode(pieces.join(""));
    const stream = new ReadableStream<Uint8Array>({
      start(out) {
        // Also in the middle of a letter.
        for (let at = 0; at < bytes.length; at += 3) out.enqueue(bytes.slice(at, at + 3));
        out.close();
      },
    });
    const lines: unknown[] = [];
    await eachLine(new Response(stream), (line) => lines.push(line));
    expect(lines).toEqual([{ n: 1 }, { n: 2 }, { t: "äpfel" }]);
  });
});
