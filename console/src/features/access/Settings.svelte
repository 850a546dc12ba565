<!-- Settings of a container that its facts do not show: limits, health check, security, log driver. -->
<script lang="ts">
  import { bytes, span } from "../../lib/format";

  let { raw }: { raw: unknown } = $props();

  type Tree = Record<string, unknown>;

  function at(...path: string[]): unknown {
    let value: unknown = raw;
    for (const part of path) value = value && typeof value === "object" ? (value as Tree)[part] : undefined;
    return value;
  }

  const number = (...path: string[]) => Number(at(...path) ?? 0);
  const list = (...path: string[]) => ((at(...path) as unknown[] | null) ?? []).map(String);
  const text = (...path: string[]) => String(at(...path) ?? "");

  /** Names and values; only what is set is here. */
  const limits = $derived(
    [
      ["Memory", number("HostConfig", "Memory") > 0 ? bytes(number("HostConfig", "Memory")) : "no limit"],
      [
        "Reserved memory",
        number("HostConfig", "MemoryReservation") > 0 ? bytes(number("HostConfig", "MemoryReservation")) : "",
      ],
      [
        "Processors",
        number("HostConfig", "NanoCpus") > 0
          ? String(number("HostConfig", "NanoCpus") / 1e9)
          : number("HostConfig", "CpuQuota") > 0
            ? String(number("HostConfig", "CpuQuota") / (number("HostConfig", "CpuPeriod") || 100_000))
            : "no limit",
      ],
      ["On processors", text("HostConfig", "CpusetCpus")],
      [
        "Processor weight",
        number("HostConfig", "CpuShares") > 0 ? String(number("HostConfig", "CpuShares")) : "",
      ],
      [
        "Processes",
        number("HostConfig", "PidsLimit") > 0 ? String(number("HostConfig", "PidsLimit")) : "no limit",
      ],
      ["Shared memory", number("HostConfig", "ShmSize") > 0 ? bytes(number("HostConfig", "ShmSize")) : ""],
    ].filter(([, value]) => value),
  );
  const security = $derived(
    [
      [
        "Privileged",
        at("HostConfig", "Privileged") === true ? "yes: can do anything the host's root can" : "no",
      ],
      ["Root filesystem", at("HostConfig", "ReadonlyRootfs") === true ? "read-only" : "writable"],
      ["User", text("Config", "User") || "the image's default"],
      ["Capabilities added", list("HostConfig", "CapAdd").join(", ")],
      ["Capabilities dropped", list("HostConfig", "CapDrop").join(", ")],
      ["Security options", list("HostConfig", "SecurityOpt").join(", ")],
      [
        "Devices",
        ((at("HostConfig", "Devices") as Tree[] | null) ?? []).map((d) => String(d["PathOnHost"])).join(", "),
      ],
      ["PID namespace", text("HostConfig", "PidMode")],
    ].filter(([, value]) => value),
  );
  const others = $derived(
    [
      ["Working directory", text("Config", "WorkingDir")],
      ["Hostname", text("Config", "Hostname")],
      ["Log driver", text("HostConfig", "LogConfig", "Type")],
      [
        "Log options",
        Object.entries((at("HostConfig", "LogConfig", "Config") as Tree | null) ?? {})
          .map(([k, v]) => `${k}=${String(v)}`)
          .join(", "),
      ],
      ["Stop signal", text("Config", "StopSignal")],
      ["Runtime", text("HostConfig", "Runtime")],
      ["Remove on exit", at("HostConfig", "AutoRemove") === true ? "yes" : ""],
      ["tmpfs mounts", Object.keys((at("HostConfig", "Tmpfs") as Tree | null) ?? {}).join(", ")],
    ].filter(([, value]) => value),
  );
  const check = $derived(at("Config", "Healthcheck") as Tree | undefined);
  const outcomes = $derived(
    ((at("State", "Health", "Log") ?? at("State", "Healthcheck", "Log")) as Tree[] | null) ?? [],
  );
  const nanos = (value: unknown) =>
    Number(value ?? 0) > 0 ? span(Number(value) / 1e9) : "the engine's default";
</script>

{#snippet pairs(rows: string[][])}
  <dl>
    {#each rows as [name, value] (name)}
      <dt>{name}</dt>
      <dd>{value}</dd>
    {/each}
  </dl>
{/snippet}

<h3>Limits</h3>
{@render pairs(limits)}

<h3>Health check</h3>
{#if check && ((check["Test"] as string[] | null) ?? []).length > 0}
  <dl>
    <dt>Command</dt>
    <dd class="mono">{((check["Test"] as string[]) ?? []).slice(1).join(" ")}</dd>
    <dt>Every</dt>
    <dd>{nanos(check["Interval"])}, timeout {nanos(check["Timeout"])}</dd>
    <dt>Retries</dt>
    <dd>{String(check["Retries"] || "the engine's default")}</dd>
  </dl>
{:else if outcomes.length === 0}
  <p class="soft">None.</p>
{/if}
{#each outcomes.slice(-3).reverse() as one, i (i)}
  <div class="outcome">
    <span class={one["ExitCode"] === 0 ? "fine" : "bad"}
      >{one["ExitCode"] === 0 ? "passed" : `failed with ${String(one["ExitCode"])}`}</span
    >
    <span class="mono"
      >{String(one["Output"] ?? "")
        .trim()
        .slice(0, 500)}</span
    >
  </div>
{/each}

<h3>Security</h3>
{@render pairs(security)}

<h3>Other settings</h3>
{@render pairs(others)}

<style>
  .outcome {
    padding: 0.2rem 0;
    overflow-wrap: anywhere;
  }
  .fine {
    color: var(--state-well);
  }
  .bad {
    color: var(--state-failed);
    font-weight: 600;
  }
</style>
