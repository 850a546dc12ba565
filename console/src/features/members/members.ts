/** Members, roles and grants in words, and the parts of a grant's scope. */
import type { Grant, Role } from "../../lib/types";

/** The parts of the fleet that a grant can be on. */
export const SCOPES = {
  fleet: "the whole fleet",
  host: "the host",
  group: "the hosts of the group",
  stack: "the stack",
  label: "what has the label",
} as const;

export type ScopeKind = keyof typeof SCOPES;

/** Takes `host:packhouse` apart. */
export function scopeOf(text: string): { kind: ScopeKind; name: string } {
  const at = text.indexOf(":");
  if (at < 0) return { kind: "fleet", name: "" };
  return { kind: text.slice(0, at) as ScopeKind, name: text.slice(at + 1) };
}

/** Puts a scope together. */
export function scopeText(kind: ScopeKind, name: string): string {
  return kind === "fleet" ? "fleet" : `${kind}:${name.trim()}`;
}

/** A grant in words: `operator on the host coldstore`. */
export function words(grant: Grant): string {
  const { kind, name } = scopeOf(grant.scope);
  return `${grant.role} on ${SCOPES[kind]}${name ? ` ${name}` : ""}`;
}

/** Whether two lists of grants give the same, in whatever order. */
export function same(one: Grant[], other: Grant[]): boolean {
  const key = (all: Grant[]) => JSON.stringify(all.map((g) => `${g.role}@${g.scope}`).sort());
  return key(one) === key(other);
}

/** The rights of a role in one line. */
export function rightsOf(role: Role): string {
  return role.rights.join(", ");
}

/** The address that somebody who is invited opens. */
export function link(origin: string, path: string): string {
  return `${origin}${path}`;
}

/** What the kinds of directory are called. */
export const DIRECTORIES = { openid: "OpenID Connect", ldap: "LDAP" } as const;
