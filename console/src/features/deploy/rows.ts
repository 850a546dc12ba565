/** The rows of the form that are sent: those into which something was written. What the service says of a row names its
 * place among those, so it is led back to the row of the form. */
import type { Definition, EnvironmentEntry, NetworkConnection, MountRule, PortRule } from "../../lib/types";

const written = {
  environment: (e: EnvironmentEntry) => e.name !== "" || e.value !== "",
  ports: (p: PortRule) => p.container_port !== 0 || p.host_port !== undefined || p.address !== undefined,
  mounts: (m: MountRule) => m.target !== "" || m.source !== undefined,
  networks: (n: NetworkConnection) => n.name !== "",
};

/** Without rows that nothing was written into. */
export function clean(d: Definition): Definition {
  return {
    ...d,
    environment: d.environment?.filter(written.environment),
    ports: d.ports?.filter(written.ports),
    mounts: d.mounts?.filter(written.mounts),
    network: d.network && { ...d.network, networks: d.network.networks?.filter(written.networks) },
  };
}

/** The place in the form of a field such as `/ports/0/host_port`, which counts only the rows that were sent. */
export function rowOf(field: string, form: Definition): string {
  const found = /^(\/environment|\/ports|\/mounts|\/network\/networks)\/(\d+)(.*)$/.exec(field);
  if (!found) return field;
  const [, list = "", sent, rest = ""] = found;
  const rows = places[list]?.(form);
  return `${list}/${rows?.[Number(sent)] ?? sent}${rest}`;
}

const places: Record<string, (d: Definition) => number[]> = {
  "/environment": (d) => kept(d.environment, written.environment),
  "/ports": (d) => kept(d.ports, written.ports),
  "/mounts": (d) => kept(d.mounts, written.mounts),
  "/network/networks": (d) => kept(d.network?.networks, written.networks),
};

const kept = <T>(rows: T[] | undefined, keeps: (row: T) => boolean): number[] =>
  (rows ?? []).flatMap((row, n) => (keeps(row) ? [n] : []));
