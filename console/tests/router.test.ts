import { beforeEach, describe, expect, it } from "vitest";

import { inspect, read } from "../src/features/fleet/inspect";
import { follow, go, place, query } from "../src/lib/router.svelte";

beforeEach(() => {
  history.replaceState(null, "", "/");
  dispatchEvent(new PopStateEvent("popstate"));
});

const address = () => location.pathname + location.search;

describe("going to a page", () => {
  it("keeps what is inspected open, unless told otherwise", () => {
    query({ inspect: "packhouse/api" });
    go("/containers");
    expect(address()).toBe("/containers?inspect=packhouse/api");
    go("/hosts", false);
    expect(address()).toBe("/hosts");
    expect([place.path, place.query.get("inspect")]).toEqual(["/hosts", null]);
  });

  it("does not put another in the place of what the address itself inspects", () => {
    query({ inspect: "packhouse/api" });
    go("/images?inspect=image:sha256:aa");
    expect(address()).toBe("/images?inspect=image:sha256:aa");
  });

  it("that is open already makes no step to go back to", () => {
    go("/hosts");
    const steps = history.length;
    go("/hosts");
    expect(history.length).toBe(steps);
  });
});

describe("the query", () => {
  it("changes by parts; empty ones leave", () => {
    query({ q: "frost", host: "packhouse" });
    query({ q: "", stack: "frostwatch" });
    expect(address()).toBe("/?host=packhouse&stack=frostwatch");
    query({ host: null, stack: null });
    expect(address()).toBe("/");
  });

  it("reads well: slashes, colons and commas stand as they are", () => {
    query({ inspect: "volume:packhouse/data", hosts: "a,b", q: "a b&c" });
    expect(address()).toBe("/?inspect=volume:packhouse/data&hosts=a,b&q=a+b%26c");
    expect(place.query.get("q")).toBe("a b&c");
  });

  it("that is replaced leaves no step", () => {
    const steps = history.length;
    query({ q: "f" }, true);
    query({ q: "fr" }, true);
    expect([history.length, address()]).toEqual([steps, "/?q=fr"]);
  });
});

describe("what is inspected", () => {
  it.each([
    ["packhouse/api", { kind: "container", key: "packhouse/api" }],
    ["image:sha256:aa", { kind: "image", key: "sha256:aa" }],
    ["host:orchard", { kind: "host", key: "orchard" }],
    ["volume:packhouse/data", { kind: "volume", key: "packhouse/data" }],
    ["odd:thing", { kind: "container", key: "odd:thing" }],
    ["", { kind: "container", key: "" }],
  ])("'%s' in the address", (text, expected) => {
    expect(read(text)).toEqual(expected);
  });

  it("is written as it is read", () => {
    inspect("volume", "packhouse/data", "files");
    expect(read(place.query.get("inspect") ?? "")).toEqual({ kind: "volume", key: "packhouse/data" });
    expect(place.query.get("tab")).toBe("files");
    inspect("container", "packhouse/api");
    expect(address()).toBe("/?inspect=packhouse/api");
  });
});

describe("links", () => {
  function press(link: Partial<HTMLAnchorElement>, pressed: MouseEventInit = {}): boolean {
    const a = Object.assign(document.createElement("a"), link);
    a.append(document.createElement("span"));
    document.body.append(a);
    const event = new MouseEvent("click", { bubbles: true, cancelable: true, ...pressed });
    let taken = false;
    a.firstElementChild?.addEventListener("click", (e) => {
      follow(e as MouseEvent);
      taken = e.defaultPrevented;
      // What is left to the browser goes nowhere in a test.
      e.preventDefault();
    });
    a.firstElementChild?.dispatchEvent(event);
    a.remove();
    return taken;
  }
  const here = location.origin;

  it("of ours stay in the page", () => {
    expect(press({ href: `${here}/hosts?q=x` })).toBe(true);
    expect(address()).toBe("/hosts?q=x");
  });

  it.each([
    ["with a modifier", { href: `${here}/hosts` }, { ctrlKey: true }],
    ["with the middle button", { href: `${here}/hosts` }, { button: 1 }],
    ["to another window", { href: `${here}/hosts`, target: "_blank" }, {}],
    ["to a download", { href: `${here}/x.tar`, download: "x.tar" }, {}],
    ["to the API", { href: `${here}/api/v1/hosts` }, {}],
    ["to its description", { href: `${here}/openapi.json` }, {}],
    ["to another site", { href: "https://orchard.tarnvalley.example/" }, {}],
  ])("%s are the browser's", (_, link, pressed) => {
    expect(press(link, pressed)).toBe(false);
    expect(address()).toBe("/");
  });
});
