<script lang="ts">
  import { api, type Schema } from '$lib/api/client';
  import { Editing } from '$lib/api/editing.svelte';
  import { refresh } from '$lib/api/queries';
  import Conflict from '$lib/components/Conflict.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { untrack } from 'svelte';
  import { LANGUAGES } from './parts';

  type Letterhead = Schema['Letterhead'];
  let { letterhead }: { letterhead: Letterhead } = $props();
  const fieldsOf = ({ head, foot, terms, language }: Letterhead) => ({
    head: head ?? '',
    foot: foot ?? '',
    terms: terms ?? '',
    language: language ?? 'en'
  });
  let fields = $state(untrack(() => fieldsOf(letterhead)));
  const editing = new Editing<Letterhead & { version: number }>();

  async function save(version: number) {
    await editing.save(version, (headers) =>
      api.PUT('/api/v1/letterhead', { headers, body: fields })
    );
    await refresh('/api/v1/letterhead');
  }
</script>

<form
  class="mt-4 max-w-2xl space-y-4"
  aria-label="Letterhead"
  onsubmit={(event) => {
    event.preventDefault();
    void save(letterhead.version ?? 0);
  }}
>
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
  {#if editing.conflict}
    <Conflict
      changed={editing.conflict}
      ours={fields}
      theirs={fieldsOf(editing.conflict.current)}
      onours={() => void save(editing.conflict!.current.version)}
      ontheirs={() => {
        if (editing.conflict) fields = fieldsOf(editing.conflict.current);
        editing.leave();
      }}
    />
  {:else}
    <button class="act main" disabled={editing.doing.busy}>Save</button>
    <Outcome of={editing.doing} />
  {/if}
</form>
