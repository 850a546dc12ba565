/**
 * What is counted, by the same definitions as the service's own figures (`GET /api/v1/figures`, core's `figures`): pages
 * that hold the records count here, and a test compares them with what the service says.
 */
import type { Container, Host } from "../../lib/types";

/** A container's process runs. A paused one is not up, and one that is about to be restarted is not. */
export function isUp(c: Container): boolean {
  return c.state === "running";
}

/** That it could have a newer image is only a notice. */
export function needsAttention(thing: Container | Host): boolean {
  return !!thing.attention && thing.attention.severity !== "notice";
}

export type { FleetFigures } from "../../lib/types";
