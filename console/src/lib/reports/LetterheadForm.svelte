<script lang="ts">
  import { api, type Schema } from '$lib/api/client';
  import { EditForm } from '$lib/api/editing.svelte';
  import { refresh } from '$lib/api/queries';
  import EditActions from '$lib/components/EditActions.svelte';
  import { untrack } from 'svelte';
  import { LANGUAGES } from './parts';

  type Letterhead = Schema['Letterhead'];
  let { letterhead }: { letterhead: Letterhead } = $props();
  // before anything was written it has no version
  const versioned = (of: Letterhead) => ({ ...of, version: of.version ?? 0 });
  const fieldsOf = ({ head, foot, terms, language }: Letterhead) => ({
    head: head ?? '',
    foot: foot ?? '',
    terms: terms ?? '',
    language: language ?? 'en'
  });
  const form = untrack(
    () =>
      new EditForm({
        key: 'letterhead',
        live: () => versioned(letterhead),
        fieldsOf,
        put: (over, touched, headers) =>
          api.PUT('/api/v2/letterhead', { headers, body: { ...fieldsOf(over), ...touched } })
      })
  );
  const fields = form.fields;
  const refreshed = () => refresh('/api/v2/letterhead');

  async function save(event: SubmitEvent) {
    event.preventDefault();
    await form.save();
    await refreshed();
  }
</script>

<form class="mt-4 max-w-2xl space-y-4" aria-label="Letterhead" onsubmit={save}>
  <label class="field">
    <span>Head: the shop's name first, below it its address</span>
    <textarea class="box w-full" rows="4" maxlength="400" bind:value={fields.head}></textarea>
  </label>
  <label class="field">
    <span>Foot of each page</span>
    <textarea class="box w-full" rows="2" maxlength="400" bind:value={fields.foot}></textarea>
  </label>
  <label class="field">
    <span>Terms, on each claim slip</span>
    <textarea class="box w-full" rows="5" maxlength="1500" bind:value={fields.terms}></textarea>
  </label>
  <label class="field">
    <span>Language of reports</span>
    <select class="box w-44" bind:value={fields.language}>
      {#each Object.entries(LANGUAGES) as [key, name] (key)}<option value={key}>{name}</option
        >{/each}
    </select>
  </label>
  <EditActions {form} onsaved={refreshed} />
</form>
