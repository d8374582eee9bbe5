<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords, type Schema } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import When from '$lib/components/When.svelte';
  import type { Shown } from './LinkOnce.svelte';

  interface Props {
    person: Schema['Person'];
    mayChange: boolean;
    problem: string;
    link: Shown | null;
  }
  let { person, mayChange, problem = $bindable(), link = $bindable() }: Props = $props();
  const ROLES = ['owner', 'technician', 'desk'] as const;
  const params = $derived({ path: { person_id: person.id } });
  let leaving = $state(false);
  const meaning = createQuery(() => ({
    ...ask('/api/v2/people/{person_id}/leaving', { params }),
    enabled: leaving
  }));

  async function ended(call: Promise<{ error?: unknown }>) {
    const { error } = await call;
    problem = error ? inWords(error) : '';
    await refresh('/api/v2/people', '/api/v2/audit', '/api/v2/tokens');
    return !error;
  }
  const setRole = (role: Schema['Role']) =>
    ended(api.PUT('/api/v2/people/{person_id}/role', { params, body: { role } }));
  const setActive = (active: boolean) =>
    ended(api.PUT('/api/v2/people/{person_id}/activity', { params, body: { active } }));
  const signOut = () => ended(api.DELETE('/api/v2/people/{person_id}/sign-ins', { params }));
  const takeCodesOff = () => ended(api.DELETE('/api/v2/people/{person_id}/codes', { params }));
  async function leave() {
    const call = person.left_at
      ? api.POST('/api/v2/people/{person_id}/return', { params })
      : api.POST('/api/v2/people/{person_id}/leaving', { params });
    if (await ended(call)) {
      leaving = false;
      if (person.left_at) await makeLink();
    }
  }
  async function makeLink() {
    const { data, error } = await api.POST('/api/v2/people/{person_id}/link', { params });
    problem = error ? inWords(error) : '';
    link = data ? { name: person.name, secret: data.secret, until: data.until } : null;
  }
</script>

<li class="flex flex-wrap items-center gap-x-4 gap-y-2 py-3">
  <span class="min-w-40 flex-1" class:muted={!person.active}>
    <span class="block font-semibold">{person.name}</span>
    <span class="muted text-sm">
      {person.login},
      {#if person.left_at}left <When at={person.left_at} />
      {:else if !person.active}may not sign in
      {:else if person.needs_code && person.passkeys}signs in with a code or a passkey
      {:else if person.needs_code}signs in with a code
      {:else if person.passkeys}signs in with a password or a passkey
      {:else}signs in with a password{/if}
    </span>
  </span>
  {#if mayChange && !person.left_at}
    <select
      class="box w-36"
      aria-label="Role of {person.name}"
      value={person.role}
      onchange={async (event) => {
        const box = event.currentTarget;
        if (!(await setRole(box.value as Schema['Role']))) box.value = person.role;
      }}
    >
      {#each ROLES as role (role)}<option value={role}>{role}</option>{/each}
    </select>
    <span class="flex flex-wrap gap-1">
      {#if person.active}
        <button class="act" onclick={makeLink}>New password</button>
        <button class="act" onclick={signOut}>Sign out everywhere</button>
        {#if person.needs_code || person.passkeys}
          <button class="act" onclick={takeCodesOff}>
            Take {[person.needs_code && 'codes', person.passkeys && 'passkeys']
              .filter(Boolean)
              .join(' and ')} off
          </button>
        {/if}
        <button class="act" onclick={() => setActive(false)}>Keep out</button>
      {:else}
        <button class="act" onclick={() => setActive(true)}>Let in again</button>
      {/if}
      <button class="act" onclick={() => (leaving = true)}>Leaves</button>
    </span>
  {:else}
    <span>{person.role}</span>
    {#if mayChange && person.left_at && !person.forgotten_at}
      <button class="act" onclick={() => (leaving = true)}>Returns</button>
    {/if}
  {/if}
  <Modal bind:open={leaving} title="{person.name} {person.left_at ? 'returns' : 'leaves'}">
    {#if meaning.data}
      <ul class="list-disc space-y-1 pl-5">
        {#each meaning.data.in_words ?? [] as sentence (sentence)}<li>{sentence}</li>{/each}
      </ul>
      <p class="mt-4 flex gap-2">
        <button class="act main" onclick={leave}>
          {person.name}
          {person.left_at ? 'is back' : 'leaves'}
        </button>
        <button class="act" onclick={() => (leaving = false)}>Not now</button>
      </p>
    {:else}<Failed query={meaning} />{/if}
  </Modal>
</li>
