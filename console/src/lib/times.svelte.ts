/** The format of times: the member's clock and time zone, or the browser's. */

export const times = $state<{ clock: "24h" | "12h"; zone: string | undefined }>({
  clock: "24h",
  zone: undefined,
});

const formats = new Map<string, Intl.DateTimeFormat>();

/** A formatter, made once: making one is slow, and every log line needs it. */
function format(kind: "moment" | "minute" | "parts"): Intl.DateTimeFormat {
  const key = `${kind} ${times.clock} ${times.zone ?? ""}`;
  const known = formats.get(key);
  if (known) return known;
  const shared = { timeZone: times.zone, hour12: times.clock === "12h" };
  const made = new Intl.DateTimeFormat(kind === "parts" ? "en" : undefined, {
    ...shared,
    ...(kind === "moment" ? { dateStyle: "medium", timeStyle: "medium" } : {}),
    ...(kind === "minute" ? { hour: "2-digit", minute: "2-digit" } : {}),
    ...(kind === "parts"
      ? { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false, hourCycle: "h23" }
      : {}),
  });
  formats.set(key, made);
  return made;
}

/** A day and a time of day. */
export function dayAndTime(time: string): string {
  return format("moment").format(new Date(time));
}

/** A time of day, to the minute. */
export function minute(time: string): string {
  return format("minute").format(new Date(time));
}

/** Hours, minutes and seconds of a time, in the zone that is set. */
export function clockParts(date: Date): { hours: number; minutes: number; seconds: number } {
  if (!times.zone) {
    return { hours: date.getHours(), minutes: date.getMinutes(), seconds: date.getSeconds() };
  }
  const parts = format("parts").formatToParts(date);
  const of = (type: string) => Number(parts.find((part) => part.type === type)?.value ?? 0);
  return { hours: of("hour") % 24, minutes: of("minute"), seconds: of("second") };
}
