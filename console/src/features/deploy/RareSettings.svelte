<!-- Settings that few containers need, folded, with a mark where one is set. -->
<script lang="ts">
  import { MORE } from "./help";
  import { type Draft, setIn } from "./draft.svelte";
  import Field from "../../ui/form/Field.svelte";
  import LinesField from "../../ui/form/LinesField.svelte";
  import NameValueList from "../../ui/form/NameValueList.svelte";
  import FormSection from "../../ui/form/FormSection.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

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

<FormSection
  title="Allow"
  note="capabilities, devices, security"
  folded
  set={setIn(...Object.values(d.rights ?? {}))}
  wrong={draft.wrongIn("/rights")}
>
  <p class="row">
    <CheckField
      label="Privileged: can do anything the host's root can"
      value={d.rights?.privileged ?? false}
      onchange={(privileged) => draft.rights({ privileged })}
    />
    <CheckField
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
    <Field
      label="Capabilities added"
      help="Without CAP_, one per line, such as NET_ADMIN."
      field="/rights/add"
      more={MORE["/rights/add"]}
      findings={draft.at("/rights/add")}
    >
      <LinesField name="Capabilities added" value={d.rights?.add} onchange={(add) => draft.rights({ add })} />
    </Field>
    <Field
      label="Capabilities dropped"
      help="One per line, or ALL."
      field="/rights/drop"
      more={MORE["/rights/drop"]}
      findings={draft.at("/rights/drop")}
    >
      <LinesField
        name="Capabilities dropped"
        value={d.rights?.drop}
        onchange={(drop) => draft.rights({ drop })}
      />
    </Field>
    <Field
      label="Devices"
      help="host:inside:rwm, one per line."
      field="/rights/devices"
      findings={draft.at("/rights/devices")}
    >
      <LinesField
        name="Devices"
        value={devices}
        placeholder="/dev/ttyUSB0:/dev/ttyUSB0:rw"
        onchange={setDevices}
      />
    </Field>
    <Field
      label="GPUs"
      help="A number, all, or IDs separated by commas."
      field="/rights/gpus"
      findings={draft.at("/rights/gpus")}
    >
      <TextField name="GPUs" value={gpus} onchange={setGpus} />
    </Field>
    <Field
      label="Security options"
      help="In the engine's notation, one per line."
      field="/rights/security"
      findings={draft.at("/rights/security")}
    >
      <LinesField
        name="Security options"
        value={d.rights?.security}
        placeholder="no-new-privileges"
        onchange={(security) => draft.rights({ security })}
      />
    </Field>
    <Field
      label="Additional groups"
      help="Of its user, one per line."
      field="/rights/groups"
      findings={draft.at("/rights/groups")}
    >
      <LinesField
        name="Additional groups"
        value={d.rights?.groups}
        onchange={(groups) => draft.rights({ groups })}
      />
    </Field>
    <Field
      label="Sysctls"
      help="name=value, one per line."
      field="/rights/kernel"
      findings={draft.at("/rights/kernel")}
    >
      <NameValueList
        name="Sysctls"
        value={d.rights?.kernel}
        placeholder="net.core.somaxconn=1024"
        onchange={(kernel) => draft.rights({ kernel })}
      />
    </Field>
    <Field
      label="PID namespace"
      help="host, or container:name."
      field="/rights/processes_of"
      more={MORE["/rights/processes_of"]}
      findings={draft.at("/rights/processes_of")}
    >
      <TextField
        name="PID namespace"
        value={d.rights?.processes_of}
        onchange={(processes_of) => draft.rights({ processes_of })}
      />
    </Field>
    <Field
      label="IPC namespace"
      help="host, private, shareable or container:name."
      field="/rights/memory_of"
      findings={draft.at("/rights/memory_of")}
    >
      <TextField
        name="IPC namespace"
        value={d.rights?.memory_of}
        onchange={(memory_of) => draft.rights({ memory_of })}
      />
    </Field>
    <Field
      label="User namespace"
      help="host, to use the host's users."
      field="/rights/users_of"
      findings={draft.at("/rights/users_of")}
    >
      <TextField
        name="User namespace"
        value={d.rights?.users_of}
        onchange={(users_of) => draft.rights({ users_of })}
      />
    </Field>
  </div>
</FormSection>
<FormSection
  title="Log"
  note="where its output goes"
  folded
  set={setIn(d.log?.driver, d.log?.options)}
  wrong={draft.wrongIn("/log")}
>
  <Field
    label="Log driver"
    help="Empty: the engine's default. With some drivers logs cannot be read here."
    field="/log/driver"
    more={MORE["/log/driver"]}
    findings={draft.at("/log/driver")}
  >
    <TextField
      name="Log driver"
      value={d.log?.driver}
      placeholder="json-file"
      onchange={(driver) => draft.set({ log: { ...d.log, driver } })}
    />
  </Field>
  <Field
    label="Log options"
    help="name=value, one per line."
    field="/log/options"
    findings={draft.at("/log/options")}
  >
    <NameValueList
      name="Log options"
      value={d.log?.options}
      placeholder="max-size=10m"
      onchange={(options) => draft.set({ log: { ...d.log, options: options ?? {} } })}
    />
  </Field>
</FormSection>
<FormSection
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
    <Field
      label="Platform"
      help="For multi-platform images, such as linux/arm64."
      field="/platform"
      more={MORE["/platform"]}
      findings={draft.at("/platform")}
    >
      <TextField name="Platform" value={d.platform} onchange={(platform) => draft.set({ platform })} />
    </Field>
    <Field label="Domain name" field="/domain" findings={draft.at("/domain")}>
      <TextField name="Domain name" value={d.domain} onchange={(domain) => draft.set({ domain })} />
    </Field>
    <Field
      label="Stop signal"
      help="Empty: SIGTERM."
      field="/stop_signal"
      more={MORE["/stop_signal"]}
      findings={draft.at("/stop_signal")}
    >
      <TextField
        name="Stop signal"
        value={d.stop_signal}
        onchange={(stop_signal) => draft.set({ stop_signal })}
      />
    </Field>
    <Field
      label="Exposed ports"
      help="8080/tcp, one per line. Documented, not published."
      field="/open"
      findings={draft.at("/open")}
    >
      <LinesField name="Exposed ports" value={d.open} onchange={(open) => draft.set({ open })} />
    </Field>
    <Field
      label="Memory with swap"
      help="Memory and swap together. Empty: twice the memory limit."
      field="/limits/memory_and_swap"
      more={MORE["/limits/memory_and_swap"]}
      findings={draft.at("/limits/memory_and_swap")}
    >
      <QuantityField
        kind="size"
        name="Memory with swap"
        value={d.limits?.memory_and_swap}
        onchange={(memory_and_swap) => draft.limits({ memory_and_swap })}
      />
    </Field>
    <Field
      label="Memory reservation"
      help="Kept when the host is short of memory."
      field="/limits/memory_reserved"
      more={MORE["/limits/memory_reserved"]}
      findings={draft.at("/limits/memory_reserved")}
    >
      <QuantityField
        kind="size"
        name="Memory reservation"
        value={d.limits?.memory_reserved}
        onchange={(memory_reserved) => draft.limits({ memory_reserved })}
      />
    </Field>
    <Field
      label="Shared memory"
      help="Size of /dev/shm. Empty: 64 MiB."
      field="/limits/shared_memory"
      findings={draft.at("/limits/shared_memory")}
    >
      <QuantityField
        kind="size"
        name="Shared memory"
        value={d.limits?.shared_memory}
        onchange={(shared_memory) => draft.limits({ shared_memory })}
      />
    </Field>
    <Field
      label="Processor weight"
      help="Its share when all processors are busy. Default: 1024."
      field="/limits/processor_weight"
      more={MORE["/limits/processor_weight"]}
      findings={draft.at("/limits/processor_weight")}
    >
      <QuantityField
        kind="whole"
        name="Processor weight"
        value={d.limits?.processor_weight}
        onchange={(processor_weight) => draft.limits({ processor_weight })}
      />
    </Field>
    <Field
      label="Processor set"
      help="Processors it may run on, such as 0-3."
      field="/limits/processor_set"
      findings={draft.at("/limits/processor_set")}
    >
      <TextField
        name="Processor set"
        value={d.limits?.processor_set}
        onchange={(processor_set) => draft.limits({ processor_set })}
      />
    </Field>
    <Field
      label="OOM score"
      help="-1000 to 1000; the highest is killed first."
      field="/limits/out_of_memory_score"
      more={MORE["/limits/out_of_memory_score"]}
      findings={draft.at("/limits/out_of_memory_score")}
    >
      <QuantityField
        kind="whole"
        name="OOM score"
        value={d.limits?.out_of_memory_score}
        onchange={(out_of_memory_score) => draft.limits({ out_of_memory_score })}
      />
    </Field>
    <Field
      label="Ulimits"
      help="nofile=1024:4096, one per line."
      field="/limits/each_process"
      findings={draft.at("/limits/each_process")}
    >
      <LinesField name="Ulimits" value={each} onchange={setEach} />
    </Field>
    <Field
      label="Search domains"
      help="One per line."
      field="/network/dns_search"
      findings={draft.at("/network/dns_search")}
    >
      <LinesField
        name="Search domains"
        value={d.network?.dns_search}
        onchange={(dns_search) => draft.network({ dns_search })}
      />
    </Field>
    <Field
      label="DNS options"
      help="One per line."
      field="/network/dns_options"
      findings={draft.at("/network/dns_options")}
    >
      <LinesField
        name="DNS options"
        value={d.network?.dns_options}
        onchange={(dns_options) => draft.network({ dns_options })}
      />
    </Field>
    <Field
      label="MAC address"
      field="/network/hardware_address"
      findings={draft.at("/network/hardware_address")}
    >
      <TextField
        name="MAC address"
        value={d.network?.hardware_address}
        onchange={(hardware_address) => draft.network({ hardware_address })}
      />
    </Field>
  </div>
  <p class="row">
    <CheckField
      label="Run an init process (reaps orphans)"
      value={d.init ?? false}
      onchange={(init) => draft.set({ init: init || undefined })}
    />
    <CheckField
      label="Terminal (TTY)"
      value={d.terminal ?? false}
      onchange={(terminal) => draft.set({ terminal })}
    />
    <CheckField
      label="Keep standard input open"
      value={d.input ?? false}
      onchange={(input) => draft.set({ input })}
    />
  </p>
</FormSection>

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
