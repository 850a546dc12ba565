/** What a freeze is in words. */
import { moment } from "../../lib/format";
import type { Freeze } from "../../lib/types";
import { SCOPES, scopeOf } from "../members/members";

/** `The host packhouse is frozen by mara until …` */
export function held(freeze: Freeze): string {
  const { kind, name } = scopeOf(freeze.scope);
  const what = `${SCOPES[kind]}${name ? ` ${name}` : ""}`;
  const plural = kind === "group" ? "are" : "is";
  return `${what.charAt(0).toUpperCase()}${what.slice(1)} ${plural} frozen by ${freeze.member} until ${moment(freeze.until)}`;
}
