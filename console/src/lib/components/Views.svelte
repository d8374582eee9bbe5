<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords, type Schema } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import { Draft } from '$lib/drafts.svelte';
  import { undo } from '$lib/undo.svelte';
  import { untrack } from 'svelte';
  import Panel from './Panel.svelte';
  import Trash from '@lucide/svelte/icons/trash-2';

  interface Props {
    page: Schema['NewView']['page'];
    /** The state of the page as its address has it, without the question mark. */
    query: string;
  }
  let { page, query }: Props = $props();
  let open = $state(false);
  const draft = untrack(() => new Draft(`view:${page}`, { name: '' }));
  let problem = $state('');
  const asked = createQuery(() => ({
    ...ask('/api/v2/views', { params: { query: { page } } }),
    enabled: open
  }));

  async function keep(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.POST('/api/v2/views', {
      body: { page, name: draft.fields.name.trim(), query }
    });
    problem = error ? inWords(error) : '';
    if (!error) draft.reset();
    await refresh('/api/v2/views');
  }
  async function drop(view: Schema['View']) {
    const { error } = await api.DELETE('/api/v2/views/{view_id}', {
      params: { path: { view_id: view.id } }
    });
    problem = error ? inWords(error) : '';
    await refresh('/api/v2/views');
    if (error) return;
    const body = { page, name: view.name, query: view.query };
    undo.offer(
      `The view ${view.name} is deleted.`,
      () => api.POST('/api/v2/views', { body }),
      () => refresh('/api/v2/views')
    );
  }
</script>

<Panel name="Saved views" bind:open>
  <ul class="ruled">
    {#each asked.data ?? [] as view (view.id)}
      <li class="flex items-center justify-between gap-4 py-1">
        <a class="anchor" href="/{page}?{view.query}" onclick={() => (open = false)}>{view.name}</a>
        <button class="act" aria-label="Delete {view.name}" onclick={() => drop(view)}>
          <Trash aria-hidden="true" />
        </button>
      </li>
    {:else}
      <li class="muted py-1">
        {asked.error ? asked.error.message : asked.isPending ? 'Asking the service…' : 'None yet.'}
      </li>
    {/each}
  </ul>
  <form class="mt-3 flex items-end gap-2" onsubmit={keep}>
    <label class="field">
      <span>Save this view as</span>
      <input class="box w-56" bind:value={draft.fields.name} required maxlength="120" />
    </label>
    <button class="act">Save</button>
  </form>
  <p class="muted mt-2 max-w-xs text-sm">To share it, send the address of the page.</p>
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
</Panel>
