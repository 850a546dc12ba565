<!-- Who may sign in, what each of them may, and how somebody comes in. -->
<script lang="ts">
  import {
    Accordion,
    AccordionItem,
    InlineNotification,
    Tab,
    TabContent,
    Tabs,
    Tag,
  } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import type { Member, OwnRights, Right, Role } from "../../lib/types";
  import Directories from "./Directories.svelte";
  import Invitations from "./Invitations.svelte";
  import MemberCard from "./MemberCard.svelte";
  import { DIRECTORIES, words } from "./members";
  import Roles from "./Roles.svelte";

  let members = $state.raw<Member[]>([]);
  let roles = $state.raw<Role[]>([]);
  let rights = $state.raw<Right[]>([]);
  let wrong = $state("");
  let opened = $state.raw<Record<number, boolean>>({});

  async function load() {
    try {
      const own = call<OwnRights>("GET", "/api/v1/rights");
      [members, roles] = await Promise.all([
        call<Member[]>("GET", "/api/v1/members"),
        call<Role[]>("GET", "/api/v1/roles"),
      ]);
      rights = (await own).rights.map((one) => one.right);
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }

  void load();

  function seen(member: Member): string {
    if (member.deactivated) return `deactivated ${age(member.deactivated, live.now)} ago`;
    return member.last_seen ? `seen ${age(member.last_seen, live.now)} ago` : "never seen";
  }
</script>

<h1>Members</h1>
{#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
<Tabs>
  <Tab label="Members" />
  <Tab label="Roles" />
  <Tab label="Invite" />
  <Tab label="Directories" />
  <svelte:fragment slot="content">
    <TabContent>
      <div data-test="members">
        <Accordion align="start">
          {#each members as member (member.id)}
            <AccordionItem on:click={() => (opened = { ...opened, [member.id]: true })}>
              <svelte:fragment slot="title">
                <span class="who" data-test={`member-${member.name}`}>
                  <strong>{member.name}</strong>
                  {#each member.grants as grant (grant.role + grant.scope)}
                    <Tag size="sm" type={grant.role === "admin" ? "magenta" : "cool-gray"}>{words(grant)}</Tag
                    >
                  {:else}
                    {#if !member.directory_grants?.length}
                      <Tag size="sm" type="outline">no grants</Tag>
                    {/if}
                  {/each}
                  {#each member.directory_grants ?? [] as grant (grant.role + grant.scope)}
                    <Tag size="sm" type="blue" title={grant.from}>{words(grant)}</Tag>
                  {/each}
                  {#if member.directory}<span class="soft">{DIRECTORIES[member.directory]}</span>{/if}
                  <span class="soft">{seen(member)}</span>
                </span>
              </svelte:fragment>
              {#if opened[member.id]}<MemberCard {member} {roles} onchanged={load} />{/if}
            </AccordionItem>
          {/each}
        </Accordion>
      </div>
    </TabContent>
    <TabContent><Roles {roles} {rights} onchanged={load} /></TabContent>
    <TabContent><Invitations {roles} /></TabContent>
    <TabContent><Directories {roles} /></TabContent>
  </svelte:fragment>
</Tabs>

<style>
  .who {
    display: inline-flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.15rem 0.4rem;
  }
  .soft {
    font-size: 0.8125rem;
  }
</style>
