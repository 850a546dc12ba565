/** Every page once, in areas by what people come for: its address, its names, its key after `g`, and what loads it. Navigation,
 * search, titles and keys read this list. A page's code is fetched when somebody goes there first. */
import type { Component } from "svelte";

import { session } from "../lib/session.svelte";
import type { Right } from "../lib/types";

export interface Page {
  path: string;
  /** In the navigation and the window's title. */
  name: string;
  /** In the search box and the list of keys. */
  title: string;
  /** What is pressed after `g`. */
  key: string;
  load: () => Promise<{ default: Component }>;
  /** It fills the window and scrolls inside. */
  filled?: boolean;
  /** Addresses below it are its own too. */
  below?: boolean;
  /** The rights of which one is needed to see it at all. */
  needs?: Right[];
  /** Parts of the query that recreate the page when they change. */
  resetOn?: string[];
}

/** What people come for, with the pages that serve it. */
export interface Area {
  name: string;
  pages: Page[];
}

export const AREAS: Area[] = [
  {
    name: "Overview",
    pages: [
      {
        path: "/",
        name: "Overview",
        title: "Overview: what needs attention",
        key: "o",
        load: () => import("../features/fleet/Overview.svelte"),
      },
      {
        path: "/timeline",
        name: "Timeline",
        title: "Timeline: what happened",
        key: "t",
        load: () => import("../features/timeline/Timeline.svelte"),
      },
      {
        path: "/operations",
        name: "Operations",
        title: "Operations: changes and their outcomes",
        key: "p",
        load: () => import("../features/operations/Operations.svelte"),
        below: true,
      },
    ],
  },
  {
    name: "Workloads",
    pages: [
      {
        path: "/containers",
        name: "Containers",
        title: "Containers",
        key: "c",
        load: () => import("../features/fleet/Containers.svelte"),
        filled: true,
      },
      {
        path: "/stacks",
        name: "Stacks",
        title: "Stacks",
        key: "s",
        load: () => import("../features/stacks/Stacks.svelte"),
        below: true,
        filled: true,
      },
      {
        path: "/map",
        name: "Map",
        title: "Map: what is connected to what",
        key: "m",
        load: () => import("../features/map/FleetMap.svelte"),
        filled: true,
      },
      {
        path: "/deploy",
        name: "Deploy",
        title: "Deploy a container",
        key: "d",
        load: () => import("../features/deploy/Deploy.svelte"),
        filled: true,
        needs: ["deploy"],
        resetOn: ["edit", "from"],
      },
    ],
  },
  {
    name: "Observe",
    pages: [
      {
        path: "/logs",
        name: "Logs",
        title: "Logs",
        key: "l",
        load: () => import("../features/logs/Logs.svelte"),
        filled: true,
      },
      {
        path: "/use",
        name: "Usage",
        title: "Usage of processor, memory, disk and network",
        key: "u",
        load: () => import("../features/usage/UsagePage.svelte"),
        filled: true,
      },
    ],
  },
  {
    name: "Resources",
    pages: [
      {
        path: "/images",
        name: "Images",
        title: "Images",
        key: "i",
        load: () => import("../features/images/Images.svelte"),
        filled: true,
      },
      {
        path: "/volumes",
        name: "Volumes",
        title: "Volumes",
        key: "v",
        load: () => import("../features/fleet/Volumes.svelte"),
        filled: true,
      },
      {
        path: "/networks",
        name: "Networks",
        title: "Networks",
        key: "n",
        load: () => import("../features/fleet/Networks.svelte"),
        filled: true,
      },
      {
        path: "/ports",
        name: "Ports",
        title: "Ports: what listens where",
        key: "r",
        load: () => import("../features/fleet/Ports.svelte"),
        filled: true,
      },
      {
        path: "/tidy",
        name: "Tidy",
        title: "Tidy: what is unused",
        key: "y",
        load: () => import("../features/operations/Tidy.svelte"),
        filled: true,
      },
    ],
  },
  {
    name: "Hosts",
    pages: [
      {
        path: "/hosts",
        name: "Hosts",
        title: "Hosts",
        key: "h",
        load: () => import("../features/fleet/Hosts.svelte"),
      },
    ],
  },
  {
    name: "Team",
    pages: [
      {
        path: "/members",
        name: "Members",
        title: "Members: who may do what",
        key: "w",
        load: () => import("../features/members/Members.svelte"),
        needs: ["members"],
      },
      {
        path: "/audit",
        name: "Audit log",
        title: "Audit log: who did what",
        key: "e",
        load: () => import("../features/audit/Audit.svelte"),
        needs: ["audit"],
      },
      {
        path: "/service",
        name: "Service",
        title: "Service: settings, registries, records",
        key: "b",
        load: () => import("../features/access/Service.svelte"),
        needs: ["settings", "registries"],
      },
      {
        path: "/account",
        name: "You",
        title: "You: profile, tokens, sessions, password",
        key: "a",
        load: () => import("../features/access/Account.svelte"),
      },
    ],
  },
];

export const PAGES: Page[] = AREAS.flatMap((area) => area.pages);

function isShown(page: Page): boolean {
  return (
    !page.needs ||
    page.needs.some((right) => (right === "deploy" ? session.somewhere(right) : session.onFleet(right)))
  );
}

/** The areas with the pages that the member may see at all. */
export function shownAreas(): Area[] {
  return AREAS.map((area) => ({ ...area, pages: area.pages.filter(isShown) })).filter(
    (area) => area.pages.length > 0,
  );
}

/** The pages that the member may see at all. */
export function shownPages(): Page[] {
  return PAGES.filter(isShown);
}

/** The page at an address. */
export function pageAt(path: string): Page | undefined {
  return PAGES.find((page) => page.path === path || (page.below && path.startsWith(`${page.path}/`)));
}
