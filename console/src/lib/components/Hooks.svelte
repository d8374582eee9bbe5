<script lang="ts">
  import { onMount } from 'svelte';
  import { api, inWords, type Schema } from '$lib/api/client';

  let hooks = $state<Schema['Hook'][]>([]);
  let secret = $state('');
  let problem = $state('');
  let hook = $state({ name: '', url: '', at_once: 'all' });

  async function load() {
    const { data } = await api.GET('/api/v1/hooks');
    hooks = data ?? [];
  }
  onMount(() => void load());

  async function addHook(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST('/api/v1/hooks', {
      body: { name: hook.name, url: hook.url, at_once: hook.at_once as 'all' }
    });
    problem = error ? inWords(error) : '';
    secret = data?.secret ?? '';
    if (data) hook = { name: '', url: '', at_once: 'all' };
    await load();
  }
  async function withdraw(id: number) {
    await api.DELETE('/api/v1/hooks/{hook_id}', { params: { path: { hook_id: id } } });
    await load();
  }
</script>

<div>
  <h3 class="font-semibold">Other programs that get notices</h3>
  <ul class="ruled mt-1">
    {#each hooks as one (one.id)}
      <li class="flex items-center justify-between gap-2 py-1.5">
        <span>{one.name} <span class="muted text-sm break-all">{one.url}</span></span>
        <button class="act" onclick={() => withdraw(one.id)}>Withdraw</button>
      </li>
    {:else}
      <li class="muted py-1.5">None.</li>
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
    <button class="act">Tell it</button>
  </form>
  {#if secret}<p class="mt-2">
      Signing key, shown only once: <code class="break-all">{secret}</code>
    </p>{/if}
</div>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
