/** Records for tests: whole ones in which a test says only what it is about. */
import type { Container, Host, Operation, Port, Target } from "../src/lib/types";

export function container(about: Partial<Container> & { name: string }): Container {
  return {
    id: `${about.host ?? "packhouse"}-${about.name}`.padEnd(64, "0"),
    host: "packhouse",
    image: "registry.tarnvalley.example/frostwatch/api:3.4.1",
    image_id: "sha256:aa",
    command: "serve",
    state: "running",
    health: "none",
    created: "2026-11-20T08:00:00Z",
    labels: {},
    ports: [],
    mounts: [],
    networks: [],
    ...about,
  } as Container;
}

export function port(about: Partial<Port>): Port {
  return { container_port: 8080, protocol: "tcp", ...about } as Port;
}

export function host(about: Partial<Host> & { name: string }): Host {
  return {
    address: "unix:///run/engine.sock",
    link: "socket",
    state: "connected",
    assets: { images: 0, volumes: 0, networks: 0 },
    assets_revision: 1,
    ...about,
  } as Host;
}

export function operation(id: number, states: Target["state"][]): Operation {
  return {
    id,
    kind: "restart",
    state: "running",
    member: "mara",
    asked: "2026-11-20T08:00:00Z",
    targets: states.map((state, n) => ({ host: "packhouse", name: `api-${n}`, id: String(n), state })),
  } as unknown as Operation;
}
