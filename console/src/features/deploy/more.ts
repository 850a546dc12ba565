/** What is worth knowing of a setting beyond its one line of help: shown on demand, by the field's path. */
export const MORE: Record<string, string> = {
  "/limits/memory":
    "The kernel ends the container's largest process at this limit, and Gubernum then says 'out of memory' with the limit. Leave some room above the peak on its Usage tab: file caches count too, but are given back first.",
  "/limits/processors":
    "1.5 is one and a half processors' time in each tenth of a second. At the limit a container is slowed down, not ended. The usage chart draws the limit as a broken line.",
  "/limits/processes":
    "Threads count as well. At the limit it can start no more, which many programs report as 'resource temporarily unavailable'.",
  "/limits/memory_reserved":
    "A wish, not a limit: when the host's memory is short, the kernel takes back from containers above their reserve first.",
  "/limits/memory_and_swap": "Memory and swap together. The same number as the memory limit allows no swap.",
  "/limits/processor_weight":
    "Counts only while all processors are busy: a container with 2048 then gets twice the time of one with 1024.",
  "/limits/out_of_memory_score":
    "Decides whom the kernel ends when the whole host is short of memory. Do not give -1000 to something that can grow: it is then never ended and others are.",
  "/rights/add":
    "Single rights of the host's root, such as NET_ADMIN to change networks or SYS_TIME to set the clock. Engines give about a dozen harmless ones by default. Add the one that is missing rather than making it privileged.",
  "/rights/drop":
    "ALL takes every right away; add back the few that it needs. Most services that listen above port 1024 need none.",
  "/rights/processes_of":
    "With `host` it sees, and as root can end, every process of the host. With `container:name` it shares those of one container, which helps to look into it.",
  "/network/mode":
    "Its own stack is the usual: published ports lead into it. With the host's stack it listens on the host's addresses directly, nothing is published, and two containers cannot use the same port.",
  "/network/networks":
    "Containers in the same network reach each other by name, without published ports. In the engine's default network names are not resolved: make a network of your own for that.",
  "/health/test":
    "Runs inside the container, by its shell. Failing more often in a row than the tries allow makes it unhealthy: it then needs attention, and an update in progress is rolled back. The engine does not restart it for that.",
  "/restart":
    "`unless stopped` also starts it after the host has restarted, but not when somebody has stopped it. `on failure` restarts only after an exit code other than 0. The wait between attempts doubles, up to a minute.",
  "/grace_seconds":
    "Databases and queues need time to write what is open: give them 30 s or more, or they are ended in the middle and recover at the next start.",
  "/stop_signal":
    "What asks it to end. Some web servers finish open requests only on SIGQUIT. After the grace period SIGKILL follows whatever stands here.",
  "/platform":
    "Of an image that is there for several kinds of processor the host's own is taken. Name another only on hosts that can emulate it: it is many times slower.",
  "/log/driver":
    "With `json-file`, `k8s-file`, `local` and `journald` logs can be read here. `none` keeps nothing. Others send lines away, and what they said must be looked up there.",
  "/user":
    "Without one it runs as the image says, often as root. Files on its mounts must belong to this user, by number: names are those inside the image.",
};
