<script lang="ts">
  import { onMount } from 'svelte';
  import { api, inWords, type Person, type Schema } from '$lib/api/client';

  let { me, onsent }: { me: Person; onsent: () => void } = $props();
  let wishes = $state<Schema['Wishes'] | null>(null);
  let problem = $state('');
  let said = $state('');
  let form = $state({
    mail: '',
    at_once: 'urgent',
    daily: false,
    weekly: true,
    from: '',
    until: ''
  });

  const mine = $derived({ params: { path: { person_id: me.id } } });

  async function load() {
    const { data, error } = await api.GET('/api/v1/people/{person_id}/notices', mine);
    if (!data) {
      problem = inWords(error);
      return;
    }
    form = {
      mail: data.mail ?? '',
      at_once: data.at_once,
      daily: data.daily,
      weekly: data.weekly,
      from: data.quiet_from?.slice(0, 5) ?? '',
      until: data.quiet_until?.slice(0, 5) ?? ''
    };
    wishes = data;
  }
  onMount(() => void load());

  async function saveWishes(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.PUT('/api/v1/people/{person_id}/notices', {
      ...mine,
      headers: { 'If-Match': `"${wishes?.version ?? 0}"` },
      body: {
        mail: form.mail || null,
        at_once: form.at_once as 'urgent',
        daily: form.daily,
        weekly: form.weekly,
        quiet_from: form.from || null,
        quiet_until: form.until || null
      }
    });
    problem = error ? inWords(error) : '';
    said = error ? '' : 'Saved.';
    if (!error) await load();
  }
  async function trial() {
    const { error } = await api.POST('/api/v1/people/{person_id}/notices/trial', mine);
    problem = error ? inWords(error) : '';
    said = error ? '' : 'A test mail is on its way.';
    onsent();
  }
</script>

{#if wishes}
  <form class="space-y-3" onsubmit={saveWishes} data-testid="wishes">
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
      <button class="act main">Save</button>
      <button class="act" type="button" onclick={trial} disabled={!wishes.mail}
        >Send a test mail</button
      >
    </div>
  </form>
{/if}
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if said}<p class="mt-2" role="status">{said}</p>{/if}
