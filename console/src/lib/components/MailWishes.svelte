<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Person, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from './Failed.svelte';
  import Outcome from './Outcome.svelte';

  let { me, onsent }: { me: Person; onsent: () => void } = $props();
  const mine = $derived({ params: { path: { person_id: me.id } } });
  const asked = createQuery(() => ask('/api/v1/people/{person_id}/notices', mine));
  const wishes = $derived(asked.data ?? null);
  const doing = new Doing();
  let form = $state({
    mail: '',
    at_once: 'urgent' as Schema['Wishes']['at_once'],
    daily: false,
    weekly: true,
    from: '',
    until: ''
  });
  $effect(() => {
    if (!wishes) return;
    form = {
      mail: wishes.mail ?? '',
      at_once: wishes.at_once,
      daily: wishes.daily,
      weekly: wishes.weekly,
      from: wishes.quiet_from?.slice(0, 5) ?? '',
      until: wishes.quiet_until?.slice(0, 5) ?? ''
    };
  });

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const call = () =>
      api.PUT('/api/v1/people/{person_id}/notices', {
        ...mine,
        headers: { 'If-Match': `"${wishes?.version ?? 0}"` },
        body: {
          mail: form.mail || null,
          at_once: form.at_once,
          daily: form.daily,
          weekly: form.weekly,
          quiet_from: form.from || null,
          quiet_until: form.until || null
        }
      });
    if (await doing.try(call, 'Saved.')) await refresh('/api/v1/people/{person_id}/notices');
  }
  async function trial() {
    const call = () => api.POST('/api/v1/people/{person_id}/notices/trial', mine);
    await doing.try(call, 'A test mail is on its way.');
    onsent();
  }
</script>

{#if wishes}
  <form class="space-y-3" onsubmit={save} data-testid="wishes">
    <h2 class="font-semibold">Mail for {me.name}</h2>
    <div class="flex flex-wrap gap-3">
      <label class="field"
        ><span>Mail to</span><input class="box w-64" type="email" bind:value={form.mail} /></label
      >
      <label class="field">
        <span>At once</span>
        <select class="box" bind:value={form.at_once}>
          <option value="urgent">what is urgent</option>
          <option value="all">everything that needs a person</option>
          <option value="never">nothing</option>
        </select>
      </label>
    </div>
    <div class="flex flex-wrap items-end gap-4">
      <label><input type="checkbox" bind:checked={form.daily} /> summary each morning</label>
      <label><input type="checkbox" bind:checked={form.weekly} /> summary on Mondays</label>
    </div>
    <div class="flex flex-wrap items-end gap-3">
      <label class="field"
        ><span>Quiet from</span><input class="box" type="time" bind:value={form.from} /></label
      >
      <label class="field"
        ><span>until</span><input class="box" type="time" bind:value={form.until} /></label
      >
      <button class="act main" disabled={doing.busy}>Save</button>
      <button class="act" type="button" onclick={trial} disabled={!wishes.mail || doing.busy}
        >Send a test mail</button
      >
    </div>
  </form>
{:else}<Failed query={asked} />{/if}
<Outcome of={doing} />
