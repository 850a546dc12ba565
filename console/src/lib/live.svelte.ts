/**
 * The live connection: one WebSocket for the whole tab, kept up for as long as somebody is signed in.
 * It holds the fleet and the operations as the service tells them, and hands log lines to their subscribers.
 */
import { call, openSocket } from "./api";
import type {
  Change,
  Container,
  DriftRow,
  JobRow,
  FromServer,
  Host,
  LogRequest,
  Operation,
  Problem,
  SourcedLine,
  TeamState,
  CurrentUsage,
} from "./types";

const FLEET = 1;
const OPERATIONS = 2;
const TEAM = 3;
const FIRST_LOG = 10;
/** Operations that are held; older ones are on their own page. */
const HELD_OPERATIONS = 200;

const NOBODY: TeamState = {
  people: [],
  waiting: [],
  freezes: [],
  snoozes: [],
  pinned: [],
  mentions: [],
  noted: [],
};

export interface LogListener {
  lines(lines: SourcedLine[], bytes: number): void;
  note(source: string, text: string): void;
  reached(time: string): void;
  ended(problem: Problem | null): void;
}

class Live {
  /** "on" once the fleet is there and current. */
  status = $state<"off" | "connecting" | "on" | "lost">("off");
  hosts = $state.raw<Host[]>([]);
  containers = $state.raw<Container[]>([]);
  operations = $state.raw<Operation[]>([]);
  /** The stacks that were deployed here, and what of each is not as it was applied. */
  drift = $state.raw<DriftRow[]>([]);
  /** The services that are run by a schedule, and the state of each. */
  jobs = $state.raw<JobRow[]>([]);
  /** Who else is there, what is queued, what is frozen and noted. */
  team = $state.raw<TeamState>(NOBODY);
  /** Ticks once in a while, for ages. */
  now = $state(Date.now());

  #socket: WebSocket | null = null;
  #hosts = new Map<string, Host>();
  #containers = new Map<string, Container>();
  #operations = new Map<number, Operation>();
  #drift = new Map<string, DriftRow>();
  #jobs = new Map<string, JobRow>();
  #stand: [string, number] | null = null;
  #listeners = new Map<number, LogListener>();
  #users = new Map<number, { references: string[]; heard: (samples: CurrentUsage[]) => void }>();
  #nextLog = FIRST_LOG;
  #pause = 500;
  #wanted = false;
  #drawing = false;
  #timer: ReturnType<typeof setInterval> | undefined;
  #begun: () => void = () => {};
  #lookingAt: string | null = null;

  /** Has something done each time that a connection begins. */
  onBegin(begun: () => void) {
    this.#begun = begun;
  }

  start() {
    if (this.#wanted) return;
    this.#wanted = true;
    this.#timer = setInterval(() => (this.now = Date.now()), 5000);
    this.#connect();
  }

  stop() {
    this.#wanted = false;
    clearInterval(this.#timer);
    this.#socket?.close();
    this.#socket = null;
    this.#hosts.clear();
    this.#containers.clear();
    this.#operations.clear();
    this.#drift.clear();
    this.#jobs.clear();
    this.#stand = null;
    this.team = NOBODY;
    this.status = "off";
    this.#draw();
  }

  /** Changes whenever images, volumes or networks of any host do. */
  assetsStamp = $derived(this.hosts.reduce((sum, h) => sum + h.assets_revision, this.hosts.length));

  /** Hosts that are unreachable: what is shown of them is as it was last seen. */
  stale = $derived(new Set(this.hosts.filter((h) => h.state === "stale").map((h) => h.name)));

  container(host: string, nameOrId: string): Container | undefined {
    return (
      this.#containers.get(`${host}/${nameOrId}`) ??
      this.containers.find((c) => c.host === host && (c.name === nameOrId || c.id.startsWith(nameOrId)))
    );
  }

  /** Reads logs, merged by time; returns the number to end it with. */
  log(wish: LogRequest, listener: LogListener): number {
    const id = this.#nextLog++;
    this.#listeners.set(id, listener);
    if (this.status === "on") this.#send({ type: "many-logs", id, wish });
    else listener.ended({ type: "", title: "", status: 0, detail: "the connection to the service is lost" });
    return id;
  }

  /** Says that lines have been taken, so that more may come. */
  taken(id: number, bytes: number) {
    this.#send({ type: "taken", id, bytes });
  }

  endLog(id: number) {
    if (this.#listeners.delete(id)) this.#send({ type: "stop", id });
  }

  /** Hears what containers use, for as long as somebody looks; returns what ends it. */
  use(references: string[], heard: (samples: CurrentUsage[]) => void): () => void {
    const id = this.#nextLog++;
    this.#users.set(id, { references, heard });
    this.#send({ type: "use", id, wish: { references } });
    return () => {
      if (this.#users.delete(id)) this.#send({ type: "stop", id });
    };
  }

  /** Says what the member looks at, so that others see it. */
  looksAt(object: string | null) {
    if (object === this.#lookingAt) return;
    this.#lookingAt = object;
    this.#send({ type: "looking", at: object });
  }

  #send(message: unknown) {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(JSON.stringify(message));
  }

  #connect() {
    if (!this.#wanted) return;
    if (this.status !== "lost") this.status = "connecting";
    const socket = openSocket("/api/v1/live");
    this.#socket = socket;
    socket.onopen = () => {
      this.#begun();
      this.#send({ type: "fleet", id: FLEET, since: this.#stand });
      // The state of stacks is sent again.
      this.#drift.clear();
      this.#jobs.clear();
      this.#send({ type: "operations", id: OPERATIONS });
      this.#send({ type: "team", id: TEAM });
      if (this.#lookingAt) this.#send({ type: "looking", at: this.#lookingAt });
      for (const [id, { references }] of this.#users) this.#send({ type: "use", id, wish: { references } });
      // After a resume without anything missed, nothing more would come.
      if (this.#stand) this.#on();
    };
    socket.onmessage = (event) => this.#take(JSON.parse(String(event.data)) as FromServer);
    socket.onclose = () => {
      if (this.#socket !== socket) return;
      this.#socket = null;
      const listeners = [...this.#listeners.values()];
      this.#listeners.clear();
      for (const listener of listeners) {
        listener.ended({ type: "", title: "", status: 0, detail: "the connection to the service is lost" });
      }
      if (!this.#wanted) return;
      this.status = "lost";
      // Whether we are still signed in at all: if not, this says so by itself.
      void call("GET", "/api/v1/sessions/current").catch(() => {});
      setTimeout(() => this.#connect(), this.#pause * (0.75 + Math.random() / 2));
      this.#pause = Math.min(this.#pause * 2, 10_000);
    };
  }

  #on() {
    this.status = "on";
    this.#pause = 500;
  }

  #take(message: FromServer) {
    switch (message.type) {
      case "snapshot":
        if (!message.part) {
          this.#hosts.clear();
          this.#containers.clear();
          // Until all parts are there, this is nothing to continue from.
          this.#stand = null;
        }
        for (const host of message.fleet.hosts) this.#hosts.set(host.name, host);
        for (const c of message.fleet.containers) this.#containers.set(`${c.host}/${c.id}`, c);
        if (message.more) return;
        this.#stand = [message.fleet.epoch, message.fleet.revision];
        this.#on();
        break;
      case "delta":
        for (const change of message.delta.changes) this.#apply(change);
        if (this.#stand) this.#stand[1] = message.delta.revision;
        break;
      case "operation":
        this.#operations.set(message.operation.id, message.operation);
        while (this.#operations.size > HELD_OPERATIONS) {
          this.#operations.delete(Math.min(...this.#operations.keys()));
        }
        break;
      case "drift":
        if (message.row.revision === 0 && !message.row.unknown) {
          this.#drift.delete(`${message.row.host}/${message.row.stack}`);
        } else this.#drift.set(`${message.row.host}/${message.row.stack}`, message.row);
        break;
      case "job": {
        const { host, stack, service, schedule } = message.row;
        if (schedule) this.#jobs.set(`${host}/${stack}/${service}`, message.row);
        else this.#jobs.delete(`${host}/${stack}/${service}`);
        break;
      }
      case "team":
        this.team = message.team;
        break;
      case "many-lines":
        this.#listeners.get(message.id)?.lines(message.lines, message.bytes);
        return;
      case "log-note":
        this.#listeners.get(message.id)?.note(message.note.source, message.note.note);
        return;
      case "searched":
        this.#listeners.get(message.id)?.reached(message.progress.reached);
        return;
      case "used":
        this.#users.get(message.id)?.heard(message.samples);
        return;
      case "ended":
        this.#finish(message.id, message.problem ?? null);
        return;
      case "refused":
        if (message.id) this.#finish(message.id, message.problem);
        return;
    }
    this.#later();
  }

  #finish(id: number, problem: Problem | null) {
    const listener = this.#listeners.get(id);
    this.#listeners.delete(id);
    listener?.ended(problem);
  }

  #apply(change: Change) {
    switch (change.change) {
      case "host-put":
        this.#hosts.set(change.host.name, change.host);
        break;
      case "host-gone":
        this.#hosts.delete(change.host);
        for (const [key, c] of this.#containers) if (c.host === change.host) this.#containers.delete(key);
        break;
      case "container-put":
        this.#containers.set(`${change.container.host}/${change.container.id}`, change.container);
        break;
      case "container-gone":
        this.#containers.delete(`${change.host}/${change.id}`);
        break;
    }
  }

  /** Many changes, one drawing: at most once a frame. */
  #later() {
    if (this.#drawing) return;
    this.#drawing = true;
    requestAnimationFrame(() => {
      this.#drawing = false;
      this.#draw();
    });
  }

  #draw() {
    this.hosts = [...this.#hosts.values()].sort((a, b) => a.name.localeCompare(b.name));
    this.containers = [...this.#containers.values()];
    this.drift = [...this.#drift.values()];
    this.jobs = [...this.#jobs.values()];
    this.operations = [...this.#operations.values()].sort((a, b) => b.id - a.id);
    this.now = Date.now();
  }
}

export const live = new Live();
