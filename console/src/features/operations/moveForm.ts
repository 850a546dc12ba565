/** What the form of a move or a copy says, as the request has it. */

export interface MoveForm {
  to: string;
  name: string;
  ports: string;
  firstPass: boolean;
  running: boolean;
  pull: boolean;
  unverified: boolean;
  keep: boolean;
  removeVolumes: boolean;
}

/** Ports as `7311=17311, 53=1053`; null where they are not. */
export function readPorts(text: string): Record<string, number> | null {
  const ports: Record<string, number> = {};
  for (const part of text.split(",").map((p) => p.trim())) {
    if (!part) continue;
    const [, old, now] = /^(\d{1,5})\s*=\s*(\d{1,5})$/.exec(part) ?? [];
    const numbers = [Number(old), Number(now)];
    if (!old || !now || numbers.some((n) => n < 1 || n > 65535)) return null;
    ports[String(numbers[0])] = Number(now);
  }
  return ports;
}

/** The settings of the request, or null with what is wrong. */
export function moveSettings(
  kind: "move" | "clone",
  form: MoveForm,
): { settings: Record<string, unknown> | null; wrong: string } {
  const ports = readPorts(form.ports);
  if (ports === null) {
    return { settings: null, wrong: "Write each as 7311=17311, from 1 to 65535, with commas between." };
  }
  if (!form.to) return { settings: null, wrong: "" };
  const name = form.name.trim();
  const of =
    kind === "move"
      ? { first_pass: form.firstPass, keep: form.keep, remove_volumes: form.removeVolumes }
      : { running: form.running };
  const settings = {
    to: form.to,
    ...(name ? { name } : {}),
    ...(Object.keys(ports).length > 0 ? { ports } : {}),
    pull: form.pull,
    unverified: form.unverified,
    ...of,
  };
  return { settings, wrong: "" };
}
