<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import { useMay } from '$lib/session';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import { count, size } from '$lib/words';

  const asked = createQuery(() => ask('/api/v2/backups/state'));
  const may = useMay();
  const listed = createQuery(() => ({ ...ask('/api/v2/backups'), enabled: may.own }));
  let making = $state(false);
  let problem = $state('');
  let said = $state('');
  let place = $state<string | null>(null);

  const load = () =>
    refresh('/api/v2/backups', '/api/v2/backups/state', '/api/v2/today', '/api/v2/audit');
  async function make() {
    making = true;
    said = problem = '';
    const { data, error } = await api.POST('/api/v2/backups');
    making = false;
    problem = error ? inWords(error) : data?.why ? `None could be made: ${data.why}` : '';
    if (data && !data.why) said = `Made and checked: ${size(data.size)}.`;
    await load();
  }
  async function setPlace(event: SubmitEvent) {
    event.preventDefault();
    if (!asked.data || place === null) return;
    const { version, hour, daily, weekly, monthly, public_key } = asked.data.plan;
    const { error } = await api.PUT('/api/v2/backups/plan', {
      headers: { 'If-Match': `"${version}"` },
      body: { place: place.trim(), hour, daily, weekly, monthly, public_key }
    });
    problem = error ? inWords(error) : '';
    if (!error) place = null;
    await load();
  }
</script>

<section class="mt-8" aria-labelledby="backups">
  <h2 id="backups">Backups</h2>
  {#if asked.data}
    {@const { plan, newest_good: newest, wrong, beside } = asked.data}
    {#if wrong}<p class="lossy mt-2" role="alert">{wrong}</p>{/if}
    <p class="mt-2">
      {#if newest}
        The last good one: <When at={newest.at} />, {size(newest.size)},
        {count(newest.entries, 'entry')} of the record, all in order.
      {:else}There is none yet.{/if}
    </p>
    <p class="muted mt-1 text-sm">
      Each day from {plan.hour}:00 on, {plan.place ? `in ${plan.place}` : "beside the shop's file"}.
      Kept: one of each of {count(plan.daily, 'day')}, {count(plan.weekly, 'week')} and {count(
        plan.monthly,
        'month'
      )}. {plan.public_key
        ? `Encrypted to ${plan.public_key.slice(0, 12)}…; the key that opens them is where you put it.`
        : 'Not encrypted: "phylax backup make-key" makes a key for them.'}
    </p>
    {#if beside}
      <p class="mt-2">
        They lie on the disk of the shop's file: if that disk fails, they are gone with it. Choose a
        place on another.
      </p>
    {/if}
    {#if may.own}
      <div class="mt-3 flex flex-wrap items-end gap-2">
        <button class="act" disabled={making} onclick={make}>
          {making ? 'Making one…' : 'Make a backup now'}
        </button>
        {#if place === null}
          <button class="act" onclick={() => (place = plan.place)}>Choose the place</button>
        {:else}
          <form class="flex flex-wrap items-end gap-2" onsubmit={setPlace}>
            <label class="field">
              <span>Folder on the service's machine</span>
              <input class="box w-72" bind:value={place} placeholder="beside the shop's file" />
            </label>
            <button class="act main">Keep them there</button>
            <button type="button" class="act" onclick={() => (place = null)}>Not now</button>
          </form>
        {/if}
      </div>
      {#if said}<p class="mt-2" role="status">{said}</p>{/if}
      {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
      {#if listed.data?.length}
        <ul class="ruled mt-4 max-w-3xl" data-testid="backups">
          {#each listed.data.slice(0, 8) as backup (backup.id)}
            <li class="flex flex-wrap justify-between gap-x-4 py-2 text-sm">
              <span><When at={backup.at} /></span>
              <span class="break-all" class:lossy={backup.why} class:muted={backup.gone_at}>
                {#if backup.why}{backup.why}
                {:else}{backup.name}, {size(backup.size)}{backup.made_by
                    ? `, by ${backup.made_by}`
                    : ''}{backup.gone_at ? ', gave way to newer ones' : ''}{/if}
              </span>
            </li>
          {/each}
        </ul>
      {/if}
    {/if}
  {:else}
    <Failed query={asked} />
  {/if}
</section>
