<script lang="ts">
  import Failed from '$lib/components/Failed.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api, inWords } from '$lib/api/client';

  const asked = createQuery(() => ask('/api/v2/hooks'));
  const hooks = $derived(asked.data ?? []);
  let secret = $state('');
  let problem = $state('');
  let hook = $state({ name: '', url: '', at_once: 'all', own_network: false });

  const load = () => refresh('/api/v2/hooks');

  async function addHook(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST('/api/v2/hooks', {
      body: {
        name: hook.name,
        url: hook.url,
        at_once: hook.at_once as 'all',
        own_network: hook.own_network
      }
    });
    problem = error ? inWords(error) : '';
    secret = data?.secret ?? '';
    if (data) hook = { name: '', url: '', at_once: 'all', own_network: false };
    await load();
  }
  async function withdraw(id: number) {
    const { error } = await api.DELETE('/api/v2/hooks/{hook_id}', {
      params: { path: { hook_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
</script>

<div>
  <h2 class="font-semibold">Other programs that get notices</h2>
  <ul class="ruled mt-1">
    {#each hooks as one (one.id)}
      <li class="flex items-center justify-between gap-2 py-1.5">
        <span>{one.name} <span class="muted text-sm break-all">{one.url}</span></span>
        <button class="act" onclick={() => withdraw(one.id)}>Withdraw</button>
      </li>
    {:else}
      <li class="muted py-1.5">
        {#if asked.data}None.{:else}<Failed query={asked} />{/if}
      </li>
    {/each}
  </ul>
  <form class="mt-2 flex flex-wrap items-end gap-2" onsubmit={addHook}>
    <label class="field"
      ><span>Which program</span><input class="box w-36" bind:value={hook.name} required /></label
    >
    <label class="field"
      ><span>Address</span><input
        class="box w-64"
        type="url"
        bind:value={hook.url}
        required
      /></label
    >
    <label class="flex items-center gap-2 pb-2">
      <input type="checkbox" bind:checked={hook.own_network} />
      <span>It is in the service's own network</span>
    </label>
    <button class="act">Tell it</button>
  </form>
  {#if secret}<p class="mt-2">
      Signing key, shown only once: <code class="break-all">{secret}</code>
    </p>{/if}
</div>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
