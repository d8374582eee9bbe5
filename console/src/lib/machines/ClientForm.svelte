<script lang="ts">
  import { api, type Client } from '$lib/api/client';
  import { EditForm } from '$lib/api/editing.svelte';
  import { refresh } from '$lib/api/queries';
  import EditActions from '$lib/components/EditActions.svelte';
  import { untrack } from 'svelte';
  import { clientEdit, CONTACT_BY } from './edit';

  let { client }: { client: Client } = $props();
  const form = untrack(
    () =>
      new EditForm({
        key: `client:${client.id}`,
        live: () => client,
        fieldsOf: (of: Client) => ({
          name: of.name,
          contact: of.contact ?? '',
          mail: of.mail ?? '',
          phone: of.phone ?? '',
          contact_by: of.contact_by ?? '',
          hours: of.hours ?? '',
          agreements: of.agreements ?? '',
          note: of.note ?? ''
        }),
        put: (over, touched, headers) =>
          api.PUT('/api/v2/clients/{client_id}', {
            params: { path: { client_id: over.id } },
            headers,
            body: { ...clientEdit(over), ...touched }
          })
      })
  );
  const f = form.fields;
  const refreshed = () =>
    refresh('/api/v2/clients/{client_id}', '/api/v2/clients', '/api/v2/machines');

  async function save(event: SubmitEvent) {
    event.preventDefault();
    await form.save();
    await refreshed();
  }
</script>

<form class="mt-4 grid max-w-4xl gap-4 sm:grid-cols-2" onsubmit={save}>
  <label class="field">
    <span>Name</span><input class="box" bind:value={f.name} required maxlength="120" />
  </label>
  <label class="field">
    <span>Whom to ask for</span><input class="box" bind:value={f.contact} maxlength="120" />
  </label>
  <label class="field">
    <span>Phone</span><input class="box" type="tel" bind:value={f.phone} maxlength="60" />
  </label>
  <label class="field">
    <span>Mail</span><input class="box" bind:value={f.mail} maxlength="200" />
  </label>
  <label class="field">
    <span>Best reached by</span>
    <select class="box" bind:value={f.contact_by}>
      {#each CONTACT_BY as way (way)}<option value={way}>{way || 'not said'}</option>{/each}
    </select>
  </label>
  <label class="field">
    <span>When</span>
    <input class="box" bind:value={f.hours} maxlength="200" placeholder="mornings" />
  </label>
  <label class="field sm:col-span-2">
    <span>What was agreed</span>
    <textarea class="box" rows="2" bind:value={f.agreements} maxlength="2000"></textarea>
  </label>
  <label class="field sm:col-span-2">
    <span>Notes</span>
    <textarea class="box" rows="2" bind:value={f.note} maxlength="4000"></textarea>
  </label>
  <div class="sm:col-span-2"><EditActions {form} onsaved={refreshed} /></div>
</form>
