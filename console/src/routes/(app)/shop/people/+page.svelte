<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import { useMe } from '$lib/session';
  import Failed from '$lib/components/Failed.svelte';
  import CodesFor from '$lib/people/CodesFor.svelte';
  import AddPerson from '$lib/people/AddPerson.svelte';
  import PersonRow from '$lib/people/PersonRow.svelte';
  import LinkOnce, { type Shown } from '$lib/people/LinkOnce.svelte';

  const asked = createQuery(() => ask('/api/v2/people'));
  const me = useMe();
  const mayChange = $derived(me.data?.role === 'owner');
  let problem = $state('');
  let link = $state<Shown | null>(null);
</script>

<svelte:head><title>People – Phylax</title></svelte:head>

<h1>People</h1>
<p class="muted mt-1 max-w-2xl text-sm">
  Owners may do everything, technicians the work, the desk adds machines and reads.
</p>
{#if asked.data}
  <ul class="ruled mt-4 max-w-4xl" data-testid="people">
    {#each asked.data as person (person.id)}
      <PersonRow {person} {mayChange} bind:problem bind:link />
    {/each}
  </ul>
  {#if link}<LinkOnce {link} />{/if}
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
  {#if mayChange}
    <CodesFor bind:problem />
    <AddPerson bind:problem bind:link />
  {/if}
{:else}
  <Failed query={asked} />
{/if}
