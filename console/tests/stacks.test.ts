import { describe, expect, it } from "vitest";

import { attribute, below, help, keyLine, pathTo } from "../src/features/stacks/attributes";
import { ofFleet, ofReport, ofStack } from "../src/features/map/graphs";
import { layout, layoutOfHosts } from "../src/features/map/layout";
import { outcome, tallyOf } from "../src/features/stacks/words";
import type { StackReport, TargetPlan } from "../src/lib/types";
import { container } from "./records";

describe("where one is in a text", () => {
  const text = `services:
  web:
    image: pears
    ports:
      - target: 80
        published: 8080
    networks:
    - front
volumes:
  pears:`.split("\n");
  const at = (n: number) => {
    const line = keyLine(text[n] ?? "");
    return line ? [...pathTo(text.slice(0, n), line.indent, line.item), line.key] : [];
  };
  it.each([
    [0, "services"],
    [1, "services web"],
    [2, "services web image"],
    [4, "services web ports [] target"],
    [5, "services web ports [] published"],
    [6, "services web networks"],
    [9, "volumes pears"],
  ])("line %d stands at %s", (n, path) => {
    expect(at(n).join(" ")).toBe(path);
  });

  it("knows what may stand there, and what comes of it", () => {
    const names = below(["services", "web"]).map((a) => a.path.split(".").at(-1));
    expect(names).toContain("image");
    expect(names).not.toContain("target");
    expect(below(["services", "web", "ports", "[]"]).map((a) => a.path)).toContain(
      "services.*.ports[].target",
    );
    expect(below([]).map((a) => a.path)).toContain("services");
    expect(below(["nowhere"])).toEqual([]);
    const attach = attribute(["services", "web", "attach"]);
    expect(attach && help(attach)).toContain("No effect");
    const replicas = attribute(["services", "web", "deploy", "replicas"]);
    expect(replicas && help(replicas)).toBe("Takes a whole number.");
  });
});

describe("what a map shows", () => {
  const report: StackReport = {
    valid: true,
    errors: [],
    variables: [],
    without_effect: [],
    left_out: [],
    services: [
      {
        name: "web",
        image: "pears",
        containers: 2,
        job: false,
        needs: [{ service: "store", until: "healthy" }],
        ports: ["8080→80"],
        networks: ["default"],
        volumes: [],
        file: "stack.yaml",
        line: 2,
      },
      {
        name: "store",
        image: "plums",
        containers: 1,
        job: false,
        needs: [],
        ports: [],
        networks: ["default"],
        volumes: ["data"],
        file: "stack.yaml",
        line: 5,
      },
    ],
  };

  it("has each thing of a text once, with what joins them", () => {
    const graph = ofReport(report);
    expect(graph.nodes.map((n) => n.id).sort()).toEqual([
      "network:default",
      "port:8080",
      "service:store",
      "service:web",
      "volume:data",
    ]);
    expect(graph.edges.find((e) => e.kind === "needs")).toMatchObject({
      to: "service:store",
      label: "healthy",
    });
  });

  it("sets nodes apart from each other, joined or alone", () => {
    const graph = ofReport(report);
    const loose = Array.from({ length: 9 }, (_, n) => ({
      id: `x${n}`,
      kind: "stack" as const,
      label: `x${n}`,
      note: "",
    }));
    const set = layout({ nodes: [...graph.nodes, ...loose], edges: graph.edges });
    expect(set.nodes).toHaveLength(14);
    for (const a of set.nodes) {
      for (const b of set.nodes) {
        if (a.id < b.id) expect(Math.abs(a.x - b.x) >= 190 || Math.abs(a.y - b.y) >= 44).toBe(true);
      }
    }
  });

  it("folds a fleet by stack and opens one where it stands", () => {
    const one = (name: string, more: object) => container({ host: "packhouse", id: name, name, ...more });
    const all = [
      one("shop-web-1", {
        stack: "shop",
        service: "web",
        labels: { "com.docker.compose.depends_on": "store:service_started:false" },
      }),
      one("shop-store-1", { stack: "shop", service: "store", networks: ["shop_default"] }),
      one("alone", {}),
    ];
    const hosts = [{ name: "packhouse" }, { name: "empty" }] as Parameters<typeof ofFleet>[0];
    const folded = ofFleet(hosts, all, new Set());
    expect(folded.map((g) => g.nodes.map((n) => n.label))).toEqual([["(no stack)", "shop"], []]);
    const open = ofFleet(hosts, all, new Set(["packhouse/shop"]))[0];
    expect(open?.nodes.map((n) => n.label)).toContain("default");
    expect(open?.edges.some((e) => e.kind === "needs")).toBe(true);
    const set = layoutOfHosts(folded.map((graph, n) => ({ title: hosts[n]?.name ?? "", graph })));
    expect(set.boxes.map((b) => b.title)).toEqual(["packhouse", "empty"]);
    expect(set.nodes.every((n) => n.x < set.width && n.y < set.height)).toBe(true);
  });

  it("folds five thousand containers within a moment", () => {
    const all = Array.from({ length: 5000 }, (_, n) =>
      container({ host: `host-${n % 100}`, id: String(n), name: `c-${n}`, stack: `stack-${n % 7}` }),
    );
    const hosts = Array.from({ length: 100 }, (_, n) => ({ name: `host-${n}` })) as Parameters<
      typeof ofFleet
    >[0];
    const graphs = ofFleet(hosts, all, new Set());
    const set = layoutOfHosts(graphs.map((graph, n) => ({ title: `host-${n}`, graph })));
    expect(set.boxes).toHaveLength(100);
    expect(set.nodes.length).toBeLessThanOrEqual(700);
  });

  it("tells the worst of a service with several containers", () => {
    const one = (name: string, more: object) =>
      container({ host: "h", id: name, name, stack: "s", service: "web", ...more });
    const graph = ofStack([one("a", {}), one("b", { state: "running", health: "unhealthy" })]);
    expect(graph.nodes[0]).toMatchObject({ look: "sick" });
  });
});

describe("consequences in a word", () => {
  const plan = (steps: string[], more: object = {}) =>
    ({
      host: "h",
      object: "container",
      id: "",
      name: "x",
      steps: steps.map((step) => ({ step })),
      ...more,
    }) as unknown as TargetPlan;
  it.each([
    [["create-beside", "start-new"], {}, "recreated"],
    [["create", "start"], {}, "created"],
    [["stop", "remove"], {}, "removed"],
    [["remove-volume"], {}, "removed"],
    [["pull"], {}, "pulled"],
    [[], {}, "unchanged"],
    [["start"], { refused: "no" }, "refused"],
  ])("%j is %s %s", (steps, more, word) => {
    expect(outcome(plan(steps, more))).toBe(word);
  });
  it("counts the worst first", () => {
    expect(tallyOf([plan([]), plan(["create"]), plan(["stop", "remove"])])).toBe(
      "1 removed, 1 created, 1 unchanged",
    );
  });
});
