<!-- Settings that few containers need, folded, with a mark where one is set. -->
<script lang="ts">
  import { MORE } from "./more";
  import { type Draft, setIn } from "./draft.svelte";
  import Entry from "../../ui/form/Entry.svelte";
  import Lines from "../../ui/form/Lines.svelte";
  import Pairs from "../../ui/form/Pairs.svelte";
  import Part from "../../ui/form/Part.svelte";
  import Size from "../../ui/form/Size.svelte";
  import Text from "../../ui/form/Text.svelte";
  import Tick from "../../ui/form/Tick.svelte";

  let { draft }: { draft: Draft } = $props();

  const d = $derived(draft.d);

  /** `host[:inside[:permissions]]`, as one line each. */
  const devices = $derived(
    d.rights?.devices?.map((x) => [x.host, x.container ?? x.host, x.permissions ?? "rwm"].join(":")),
  );
  function setDevices(lines: string[] | undefined) {
    draft.rights({
      devices: lines?.map((l) => {
        const [host, container, permissions] = l.split(":");
        return { host: host ?? "", container, permissions };
      }),
    });
  }

  /** `name=soft:hard`. */
  const each = $derived(d.limits?.each_process?.map((x) => `${x.name}=${x.soft}:${x.hard}`));
  function setEach(lines: string[] | undefined) {
    draft.limits({
      each_process: lines
        ?.map((l) => /^(\w+)=(-?\d+)(?::(-?\d+))?$/.exec(l))
        .filter((m) => m !== null)
        .map((m) => ({ name: m[1] ?? "", soft: Number(m[2]), hard: Number(m[3] ?? m[2]) })),
    });
  }
  const gpus = $derived(
    d.rights?.gpus
      ? d.rights.gpus.ids?.length
        ? d.rights.gpus.ids.join(",")
        : d.rights.gpus.count === -1
          ? "all"
          : String(d.rights.gpus.count ?? "")
      : undefined,
  );
  function setGpus(text: string | undefined) {
    if (!text) draft.rights({ gpus: undefined });
    else if (text === "all") draft.rights({ gpus: { count: -1 } });
    else if (/^\d+$/.test(text)) draft.rights({ gpus: { count: Number(text) } });
    else draft.rights({ gpus: { ids: text.split(",").map((t) => t.trim()) } });
  }
</script>

<Part
  title="Allow"
  note="capabilities, devices, security"
  folded
  set={setIn(...Object.values(d.rights ?? {}))}
  wrong={draft.wrongIn("/rights")}
>
  <p class="row">
    <Tick
      label="Privileged: can do anything the host's root can"
      value={d.rights?.privileged ?? false}
      onchange={(privileged) => draft.rights({ privileged })}
    />
    <Tick
      label="Read-only root filesystem"
      value={d.rights?.read_only ?? false}
      onchange={(read_only) => draft.rights({ read_only })}
    />
  </p>
  {#each draft.at("/rights/privileged") as f (f.sentence)}<p
      class={f.weight}
      role="alert"
      data-test="finding"
    >
      {f.sentence}
    </p>{/each}
  <div class="two">
    <Entry
      label="Capabilities added"
      help="Without CAP_, one per line, such as NET_ADMIN."
      field="/rights/add"
      more={MORE["/rights/add"]}
      findings={draft.at("/rights/add")}
    >
      <Lines name="Capabilities added" value={d.rights?.add} onchange={(add) => draft.rights({ add })} />
    </Entry>
    <Entry
      label="Capabilities dropped"
      help="One per line, or ALL."
      field="/rights/drop"
      more={MORE["/rights/drop"]}
      findings={draft.at("/rights/drop")}
    >
      <Lines name="Capabilities dropped" value={d.rights?.drop} onchange={(drop) => draft.rights({ drop })} />
    </Entry>
    <Entry
      label="Devices"
      help="host:inside:rwm, one per line."
      field="/rights/devices"
      findings={draft.at("/rights/devices")}
    >
      <Lines
        name="Devices"
        value={devices}
        placeholder="/dev/ttyUSB0:/dev/ttyUSB0:rw"
        onchange={setDevices}
      />
    </Entry>
    <Entry
      label="GPUs"
      help="A number, all, or IDs separated by commas."
      field="/rights/gpus"
      findings={draft.at("/rights/gpus")}
    >
      <Text name="GPUs" value={gpus} onchange={setGpus} />
    </Entry>
    <Entry
      label="Security options"
      help="In the engine's notation, one per line."
      field="/rights/security"
      findings={draft.at("/rights/security")}
    >
      <Lines
        name="Security options"
        value={d.rights?.security}
        placeholder="no-new-privileges"
        onchange={(security) => draft.rights({ security })}
      />
    </Entry>
    <Entry
      label="Additional groups"
      help="Of its user, one per line."
      field="/rights/groups"
      findings={draft.at("/rights/groups")}
    >
      <Lines
        name="Additional groups"
        value={d.rights?.groups}
        onchange={(groups) => draft.rights({ groups })}
      />
    </Entry>
    <Entry
      label="Sysctls"
      help="name=value, one per line."
      field="/rights/kernel"
      findings={draft.at("/rights/kernel")}
    >
      <Pairs
        name="Sysctls"
        value={d.rights?.kernel}
        placeholder="net.core.somaxconn=1024"
        onchange={(kernel) => draft.rights({ kernel })}
      />
    </Entry>
    <Entry
      label="PID namespace"
      help="host, or container:name."
      field="/rights/processes_of"
      more={MORE["/rights/processes_of"]}
      findings={draft.at("/rights/processes_of")}
    >
      <Text
        name="PID namespace"
        value={d.rights?.processes_of}
        onchange={(processes_of) => draft.rights({ processes_of })}
      />
    </Entry>
    <Entry
      label="IPC namespace"
      help="host, private, shareable or container:name."
      field="/rights/memory_of"
      findings={draft.at("/rights/memory_of")}
    >
      <Text
        name="IPC namespace"
        value={d.rights?.memory_of}
        onchange={(memory_of) => draft.rights({ memory_of })}
      />
    </Entry>
    <Entry
      label="User namespace"
      help="host, to use the host's users."
      field="/rights/users_of"
      findings={draft.at("/rights/users_of")}
    >
      <Text
        name="User namespace"
        value={d.rights?.users_of}
        onchange={(users_of) => draft.rights({ users_of })}
      />
    </Entry>
  </div>
</Part>
<Part
  title="Log"
  note="where its output goes"
  folded
  set={setIn(d.log?.driver, d.log?.options)}
  wrong={draft.wrongIn("/log")}
>
  <Entry
    label="Log driver"
    help="Empty: the engine's default. With some drivers logs cannot be read here."
    field="/log/driver"
    more={MORE["/log/driver"]}
    findings={draft.at("/log/driver")}
  >
    <Text
      name="Log driver"
      value={d.log?.driver}
      placeholder="json-file"
      onchange={(driver) => draft.set({ log: { ...d.log, driver } })}
    />
  </Entry>
  <Entry
    label="Log options"
    help="name=value, one per line."
    field="/log/options"
    findings={draft.at("/log/options")}
  >
    <Pairs
      name="Log options"
      value={d.log?.options}
      placeholder="max-size=10m"
      onchange={(options) => draft.set({ log: { ...d.log, options: options ?? {} } })}
    />
  </Entry>
</Part>
<Part
  title="Advanced"
  note="everything else"
  folded
  set={setIn(
    d.platform,
    d.domain,
    d.open,
    d.stop_signal,
    d.init,
    d.terminal,
    d.input,
    d.limits?.memory_and_swap,
    d.limits?.memory_reserved,
    d.limits?.shared_memory,
    d.limits?.processor_weight,
    d.limits?.processor_set,
    d.limits?.each_process,
    d.limits?.out_of_memory_score,
    d.network?.dns_search,
    d.network?.dns_options,
    d.network?.hardware_address,
  )}
  wrong={draft.wrongIn("/platform", "/stop_signal", "/open")}
>
  <div class="two">
    <Entry
      label="Platform"
      help="For multi-platform images, such as linux/arm64."
      field="/platform"
      more={MORE["/platform"]}
      findings={draft.at("/platform")}
    >
      <Text name="Platform" value={d.platform} onchange={(platform) => draft.set({ platform })} />
    </Entry>
    <Entry label="Domain name" field="/domain" findings={draft.at("/domain")}>
      <Text name="Domain name" value={d.domain} onchange={(domain) => draft.set({ domain })} />
    </Entry>
    <Entry
      label="Stop signal"
      help="Empty: SIGTERM."
      field="/stop_signal"
      more={MORE["/stop_signal"]}
      findings={draft.at("/stop_signal")}
    >
      <Text name="Stop signal" value={d.stop_signal} onchange={(stop_signal) => draft.set({ stop_signal })} />
    </Entry>
    <Entry
      label="Exposed ports"
      help="8080/tcp, one per line. Documented, not published."
      field="/open"
      findings={draft.at("/open")}
    >
      <Lines name="Exposed ports" value={d.open} onchange={(open) => draft.set({ open })} />
    </Entry>
    <Entry
      label="Memory with swap"
      help="Memory and swap together. Empty: twice the memory limit."
      field="/limits/memory_and_swap"
      more={MORE["/limits/memory_and_swap"]}
      findings={draft.at("/limits/memory_and_swap")}
    >
      <Size
        kind="size"
        name="Memory with swap"
        value={d.limits?.memory_and_swap}
        onchange={(memory_and_swap) => draft.limits({ memory_and_swap })}
      />
    </Entry>
    <Entry
      label="Memory reservation"
      help="Kept when the host is short of memory."
      field="/limits/memory_reserved"
      more={MORE["/limits/memory_reserved"]}
      findings={draft.at("/limits/memory_reserved")}
    >
      <Size
        kind="size"
        name="Memory reservation"
        value={d.limits?.memory_reserved}
        onchange={(memory_reserved) => draft.limits({ memory_reserved })}
      />
    </Entry>
    <Entry
      label="Shared memory"
      help="Size of /dev/shm. Empty: 64 MiB."
      field="/limits/shared_memory"
      findings={draft.at("/limits/shared_memory")}
    >
      <Size
        kind="size"
        name="Shared memory"
        value={d.limits?.shared_memory}
        onchange={(shared_memory) => draft.limits({ shared_memory })}
      />
    </Entry>
    <Entry
      label="Processor weight"
      help="Its share when all processors are busy. Default: 1024."
      field="/limits/processor_weight"
      more={MORE["/limits/processor_weight"]}
      findings={draft.at("/limits/processor_weight")}
    >
      <Size
        kind="whole"
        name="Processor weight"
        value={d.limits?.processor_weight}
        onchange={(processor_weight) => draft.limits({ processor_weight })}
      />
    </Entry>
    <Entry
      label="Processor set"
      help="Processors it may run on, such as 0-3."
      field="/limits/processor_set"
      findings={draft.at("/limits/processor_set")}
    >
      <Text
        name="Processor set"
        value={d.limits?.processor_set}
        onchange={(processor_set) => draft.limits({ processor_set })}
      />
    </Entry>
    <Entry
      label="OOM score"
      help="-1000 to 1000; the highest is killed first."
      field="/limits/out_of_memory_score"
      more={MORE["/limits/out_of_memory_score"]}
      findings={draft.at("/limits/out_of_memory_score")}
    >
      <Size
        kind="whole"
        name="OOM score"
        value={d.limits?.out_of_memory_score}
        onchange={(out_of_memory_score) => draft.limits({ out_of_memory_score })}
      />
    </Entry>
    <Entry
      label="Ulimits"
      help="nofile=1024:4096, one per line."
      field="/limits/each_process"
      findings={draft.at("/limits/each_process")}
    >
      <Lines name="Ulimits" value={each} onchange={setEach} />
    </Entry>
    <Entry
      label="Search domains"
      help="One per line."
      field="/network/dns_search"
      findings={draft.at("/network/dns_search")}
    >
      <Lines
        name="Search domains"
        value={d.network?.dns_search}
        onchange={(dns_search) => draft.network({ dns_search })}
      />
    </Entry>
    <Entry
      label="DNS options"
      help="One per line."
      field="/network/dns_options"
      findings={draft.at("/network/dns_options")}
    >
      <Lines
        name="DNS options"
        value={d.network?.dns_options}
        onchange={(dns_options) => draft.network({ dns_options })}
      />
    </Entry>
    <Entry
      label="MAC address"
      field="/network/hardware_address"
      findings={draft.at("/network/hardware_address")}
    >
      <Text
        name="MAC address"
        value={d.network?.hardware_address}
        onchange={(hardware_address) => draft.network({ hardware_address })}
      />
    </Entry>
  </div>
  <p class="row">
    <Tick
      label="Run an init process (reaps orphans)"
      value={d.init ?? false}
      onchange={(init) => draft.set({ init: init || undefined })}
    />
    <Tick
      label="Terminal (TTY)"
      value={d.terminal ?? false}
      onchange={(terminal) => draft.set({ terminal })}
    />
    <Tick
      label="Keep standard input open"
      value={d.input ?? false}
      onchange={(input) => draft.set({ input })}
    />
  </p>
</Part>

<style>
  .two {
    display: grid;
    gap: 0 1rem;
    grid-template-columns: 1fr 1fr;
  }
  .row {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem 1.5rem;
    margin: 0 0 0.8rem;
    font-size: 0.8125rem;
  }
  .error {
    color: var(--state-failed);
    font-size: 0.75rem;
  }
  .warning {
    color: var(--state-halted);
    font-size: 0.75rem;
  }
</style>
