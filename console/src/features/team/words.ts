/** Freezes, notes and presence in words and addresses. */
import { moment } from "../../lib/format";
import type { Freeze, Operation, Person } from "../../lib/types";
import { SCOPES, scopeOf } from "../members/members";

/** `The host packhouse is frozen by mara until …` */
export function held(freeze: Freeze): string {
  const { kind, name } = scopeOf(freeze.scope);
  const what = `${SCOPES[kind]}${name ? ` ${name}` : ""}`;
  const plural = kind === "group" ? "are" : "is";
  return `${what.charAt(0).toUpperCase()}${what.slice(1)} ${plural} frozen by ${freeze.member} until ${moment(freeze.until)}`;
}

/** The page on which an object is seen with its notes. */
export function addressOf(on: string): string {
  const colon = on.indexOf(":");
  const [kind, name] = [on.slice(0, colon), on.slice(colon + 1)];
  switch (kind) {
    case "container":
      return `/containers?inspect=${encodeURIComponent(name)}&tab=notes`;
    case "host":
      return `/hosts?inspect=${encodeURIComponent(on)}&tab=notes`;
    case "stack":
      return `/stacks/${name.split("/").map(encodeURIComponent).join("/")}?part=notes`;
    case "volume":
      return `/volumes?inspect=${encodeURIComponent(on)}&tab=notes`;
    case "network":
      return `/networks?inspect=${encodeURIComponent(on)}&tab=notes`;
    case "image":
      // An image is looked at wherever it is; its notes are of a host and a name.
      return `/images?find=${encodeURIComponent(name.slice(name.indexOf("/") + 1))}`;
    default:
      return "/";
  }
}

export interface Piece {
  text: string;
  link?: string;
  mention?: boolean;
}

/** A note's text in pieces: addresses of the web become links, mentions stand out, all else is text. */
export function pieces(text: string): Piece[] {
  const found: Piece[] = [];
  let from = 0;
  for (const match of text.matchAll(
    /https?:\/\/[^\s<>"']+[^\s<>"'.,;:!?)]|@"[^"\n]+"|@[\p{L}\p{N}_.-]+[\p{L}\p{N}_-]/gu,
  )) {
    if (match.index > from) found.push({ text: text.slice(from, match.index) });
    const piece = match[0];
    found.push(piece.startsWith("@") ? { text: piece, mention: true } : { text: piece, link: piece });
    from = match.index + piece.length;
  }
  if (from < text.length) found.push({ text: text.slice(from) });
  return found;
}

/** The others who look at an object. */
export function lookers(people: Person[], on: string, member: string): string[] {
  return people.filter((one) => one.looking_at === on && one.member !== member).map((one) => one.member);
}

/** The operations under way that work on an object. */
export function workOn(operations: Operation[], on: string): Operation[] {
  const colon = on.indexOf(":");
  const [kind, name] = [on.slice(0, colon), on.slice(colon + 1)];
  const fits = (o: Operation) =>
    kind === "host"
      ? o.targets.some((t) => t.host === name)
      : o.references.includes(name) || o.targets.some((t) => `${t.host}/${t.name}` === name);
  return operations.filter((o) => o.state === "running" && fits(o));
}
