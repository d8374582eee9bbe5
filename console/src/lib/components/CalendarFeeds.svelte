<script lang="ts">
  import Failed from '$lib/components/Failed.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api, inWords, type Person } from '$lib/api/client';
  import { Draft } from '$lib/drafts.svelte';
  import ClientBox from './ClientBox.svelte';
  import When from '$lib/components/When.svelte';

  let { people, mayChange }: { people: Person[]; mayChange: boolean } = $props();
  const feedsAsked = createQuery(() => ask('/api/v2/calendars'));
  const feeds = $derived(feedsAsked.data ?? []);
  const draft = new Draft('calendar', { name: '', whose: 'shop' });
  let address = $state('');
  let problem = $state('');

  const load = () => refresh('/api/v2/calendars');

  async function make(event: SubmitEvent) {
    event.preventDefault();
    const [about, number] = draft.fields.whose.split(' ');
    const { data, error } = await api.POST('/api/v2/calendars', {
      body: { name: draft.fields.name, about: about as 'shop', subject_id: Number(number ?? 0) }
    });
    problem = error ? inWords(error) : '';
    address = data ? `${location.origin}${data.path}` : '';
    if (data) draft.reset();
    await load();
  }
  async function withdraw(id: number) {
    const { error } = await api.DELETE('/api/v2/calendars/{feed_id}', {
      params: { path: { feed_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
</script>

<section aria-labelledby="calendars">
  <h1 id="calendars">Calendar addresses</h1>
  <p class="muted text-sm">
    A private address from which a calendar reads the rounds. Whoever knows it can read them.
  </p>
  <ul class="ruled mt-2" data-testid="calendars">
    {#each feeds as feed (feed.id)}
      <li class="flex items-center justify-between gap-2 py-2">
        <span
          >{feed.name}
          <span class="muted text-sm"
            >{feed.subject_name || 'the shop'}, {#if feed.read_at}read <When
                at={feed.read_at}
              />{:else}not read yet{/if}</span
          ></span
        >
        {#if mayChange}<button class="act" onclick={() => withdraw(feed.id)}>Withdraw</button>{/if}
      </li>
    {:else}
      <li class="muted py-2">
        {#if feedsAsked.data}None yet.{:else}<Failed query={feedsAsked} />{/if}
      </li>
    {/each}
  </ul>
  {#if mayChange}
    <form class="mt-2 flex flex-wrap items-end gap-2" onsubmit={make}>
      <label class="field"
        ><span>For what</span><input
          class="box w-44"
          bind:value={draft.fields.name}
          required
          maxlength="120"
        /></label
      >
      <ClientBox
        label="Which rounds"
        bind:value={draft.fields.whose}
        first={[
          { value: 'shop', label: 'all of the shop' },
          ...people.map((person) => ({ value: `person ${person.id}`, label: `${person.name}'s` }))
        ]}
        optionOf={(id) => `client ${id}`}
      />
      <button class="act">Make an address</button>
    </form>
    {#if address}<p class="mt-2">
        Shown only once: <code class="break-all" data-testid="calendar-address">{address}</code>
      </p>{/if}
  {/if}
  {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
</section>
