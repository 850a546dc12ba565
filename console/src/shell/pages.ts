/** Every page once: its address, its names, its key after `g`, and what shows it. Navigation, search and keys read this list. */
import type { Component } from "svelte";

import Account from "../features/access/Account.svelte";
import Audit from "../features/audit/Audit.svelte";
import Deploy from "../features/deploy/Deploy.svelte";
import Containers from "../features/fleet/Containers.svelte";
import Hosts from "../features/fleet/Hosts.svelte";
import Networks from "../features/fleet/Networks.svelte";
import Overview from "../features/fleet/Overview.svelte";
import Ports from "../features/fleet/Ports.svelte";
import Volumes from "../features/fleet/Volumes.svelte";
import Images from "../features/images/Images.svelte";
import Logs from "../features/logs/Logs.svelte";
import Operations from "../features/operations/Operations.svelte";
import Tidy from "../features/operations/Tidy.svelte";
import Members from "../features/members/Members.svelte";
import FleetMap from "../features/map/FleetMap.svelte";
import Stacks from "../features/stacks/Stacks.svelte";
import Timeline from "../features/timeline/Timeline.svelte";
import Usage from "../features/usage/Use.svelte";
import { session } from "../lib/session.svelte";
import type { Right } from "../lib/types";

export interface Page {
  path: string;
  /** In the navigation. */
  name: string;
  /** In the search box and the list of keys. */
  title: string;
  /** What is pressed after `g`. */
  key: string;
  component: Component;
  /** It fills the window and scrolls inside. */
  filled?: boolean;
  /** Reached from elsewhere, not from the navigation. */
  apart?: boolean;
  /** Addresses below it are its own too. */
  below?: boolean;
  /** The right without which it is not shown. */
  needs?: Right;
  /** Parts of the query for which it begins anew. */
  anew?: string[];
}

export const PAGES: Page[] = [
  { path: "/", name: "Overview", title: "Overview: what needs attention", key: "o", component: Overview },
  {
    path: "/containers",
    name: "Containers",
    title: "Containers",
    key: "c",
    component: Containers,
    filled: true,
  },
  {
    path: "/stacks",
    name: "Stacks",
    title: "Stacks",
    key: "s",
    component: Stacks,
    below: true,
    filled: true,
  },
  {
    path: "/map",
    name: "Map",
    title: "Map: what is joined to what",
    key: "m",
    component: FleetMap,
    filled: true,
  },
  { path: "/logs", name: "Logs", title: "Logs", key: "l", component: Logs, filled: true },
  { path: "/use", name: "Use", title: "Use of resources", key: "u", component: Usage, filled: true },
  {
    path: "/ports",
    name: "Ports",
    title: "Ports: what listens where",
    key: "r",
    component: Ports,
    filled: true,
  },
  { path: "/images", name: "Images", title: "Images", key: "i", component: Images, filled: true },
  { path: "/volumes", name: "Volumes", title: "Volumes", key: "v", component: Volumes, filled: true },
  { path: "/networks", name: "Networks", title: "Networks", key: "n", component: Networks, filled: true },
  { path: "/tidy", name: "Tidy", title: "Tidy: what is unused", key: "y", component: Tidy, filled: true },
  {
    path: "/members",
    name: "Members",
    title: "Members: who may what",
    key: "w",
    component: Members,
    needs: "members",
  },
  {
    path: "/audit",
    name: "Audit",
    title: "Audit: who did what",
    key: "e",
    component: Audit,
    needs: "audit",
  },
  { path: "/hosts", name: "Hosts", title: "Hosts", key: "h", component: Hosts },
  { path: "/timeline", name: "Timeline", title: "Timeline", key: "t", component: Timeline },
  {
    path: "/operations",
    name: "Operations",
    title: "Operations",
    key: "p",
    component: Operations,
    below: true,
  },
  {
    path: "/deploy",
    name: "Deploy",
    title: "Deploy a container",
    key: "d",
    component: Deploy,
    filled: true,
    apart: true,
    anew: ["edit", "from"],
  },
  {
    path: "/account",
    name: "Account",
    title: "Account and tokens",
    key: "a",
    component: Account,
    apart: true,
  },
];

/** The pages that the member may see at all. */
export function shownPages(): Page[] {
  return PAGES.filter((page) => !page.needs || session.onFleet(page.needs));
}

/** The page at an address. */
export function pageAt(path: string): Page | undefined {
  return PAGES.find((page) => page.path === path || (page.below && path.startsWith(`${page.path}/`)));
}
