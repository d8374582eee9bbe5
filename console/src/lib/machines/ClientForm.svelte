<script lang="ts">
  import { api, type Client } from '$lib/api/client';
  import { Editing } from '$lib/api/editing.svelte';
  import { refresh } from '$lib/api/queries';
  import Conflict from '$lib/components/Conflict.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { Draft } from '$lib/drafts.svelte';
  import { untrack } from 'svelte';
  import { clientEdit, REACH_BY } from './edit';

  let { client }: { client: Client } = $props();
  const fieldsOf = (of: Client) => ({
    name: of.name,
    contact: of.contact ?? '',
    mail: of.mail ?? '',
    phone: of.phone ?? '',
    reach_by: of.reach_by ?? '',
    hours: of.hours ?? '',
    agreements: of.agreements ?? '',
    note: of.note ?? ''
  });
  const draft = untrack(() => new Draft(`client:${client.id}`, fieldsOf(client)));
  const f = draft.fields;
  const editing = new Editing<Client>();
  const isSame = $derived(JSON.stringify(f) === JSON.stringify(fieldsOf(client)));

  async function save(over: Client) {
    const isDone = await editing.save(over.version, (headers) =>
      api.PUT('/api/v1/clients/{client_id}', {
        params: { path: { client_id: client.id } },
        headers,
        body: { ...clientEdit(over), ...f, reach_by: f.reach_by as Client['reach_by'] }
      })
    );
    if (isDone) draft.reset({ ...f });
    await refresh('/api/v1/clients/{client_id}', '/api/v1/clients', '/api/v1/machines');
  }
  function theirs(current: Client) {
    draft.reset(fieldsOf(current));
    editing.leave();
  }
</script>

<form
  class="mt-4 grid max-w-4xl gap-4 sm:grid-cols-2"
  onsubmit={(event) => {
    event.preventDefault();
    void save(client);
  }}
>
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
    <select class="box" bind:value={f.reach_by}>
      {#each REACH_BY as way (way)}<option value={way}>{way || 'not said'}</option>{/each}
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
  <div class="flex flex-wrap items-center gap-3 sm:col-span-2">
    <button class="act main" disabled={isSame || editing.doing.busy}>Save</button>
    {#if !isSame}
      <button type="button" class="act" onclick={() => theirs(client)}>Undo</button>
    {/if}
  </div>
  <div class="sm:col-span-2">
    {#if editing.conflict}
      {@const { current } = editing.conflict}
      <Conflict
        changed={editing.conflict}
        ours={{ ...f }}
        theirs={fieldsOf(current)}
        onours={() => void save(current)}
        ontheirs={() => theirs(current)}
      />
    {:else}<Outcome of={editing.doing} />{/if}
  </div>
</form>
