/** Longer help for settings, shown on demand, by the field's path. */
export const MORE: Record<string, string> = {
  "/limits/memory":
    "At this limit the kernel kills the container's largest process, and the container shows as 'out of memory'. Leave room above the peak on its Usage tab. File caches count too, but are reclaimed first.",
  "/limits/processors":
    "1.5 allows one and a half processors' time in each tenth of a second. At the limit a container is throttled, not stopped. The usage chart draws the limit as a broken line.",
  "/limits/processes":
    "Threads count as well. At the limit no more can be started, which many programs report as 'resource temporarily unavailable'.",
  "/limits/memory_reserved":
    "A soft limit: when the host runs short of memory, the kernel first reclaims from containers above their reservation.",
  "/limits/memory_and_swap": "Memory and swap together. Set it to the memory limit to allow no swap.",
  "/limits/processor_weight":
    "Matters only while all processors are busy: a container with 2048 then gets twice the time of one with 1024.",
  "/limits/out_of_memory_score":
    "Decides what the kernel kills first when the whole host runs out of memory. Do not set -1000 for anything that can grow: others are killed instead.",
  "/rights/add":
    "Single privileges of root, such as NET_ADMIN to configure networks or SYS_TIME to set the clock. Engines grant about a dozen harmless ones by default. Add the one that is missing instead of using privileged mode.",
  "/rights/drop":
    "ALL drops every capability; add back the few that are needed. Most services that listen above port 1024 need none.",
  "/rights/processes_of":
    "'host' lets it see, and as root kill, every process of the host. 'container:name' shares the processes of one container, which helps with debugging.",
  "/network/mode":
    "By default a container has its own network stack, and published ports lead into it. With the host's network it listens on the host's addresses directly, publishes nothing, and two containers cannot use the same port.",
  "/network/networks":
    "Containers in the same network reach each other by name, without published ports. The engine's default network does not resolve names: create a network for that.",
  "/health/test":
    "Runs inside the container, by its shell. After the set number of failures in a row the container is unhealthy: it then needs attention, and an update in progress is rolled back. The engine does not restart it.",
  "/restart":
    "'unless-stopped' also starts it after the host has restarted, unless somebody stopped it. 'on-failure' restarts only after a nonzero exit code. The delay between attempts doubles, up to a minute.",
  "/grace_seconds":
    "Databases and queues need time to write what is open: give them 30 s or more. Otherwise they are killed while writing and have to recover at the next start.",
  "/stop_signal":
    "Asks the main process to exit. Some web servers finish open requests only on SIGQUIT. After the grace period SIGKILL follows in any case.",
  "/platform":
    "By default the host's own platform is used. Choose another only on hosts that can emulate it: it is many times slower.",
  "/log/driver":
    "With 'json-file', 'k8s-file', 'local' and 'journald', logs can be read here. 'none' keeps nothing. Other drivers send lines elsewhere, where you read them.",
  "/user":
    "When empty, the image's user, often root. Files on mounts must belong to this user by number: names are those inside the image.",
};
