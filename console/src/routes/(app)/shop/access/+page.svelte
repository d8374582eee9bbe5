<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import { Draft } from '$lib/drafts.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';

  const asked = createQuery(() => ask('/api/v2/tokens'));
  const tokens = $derived((asked.data ?? []).filter((token) => !token.withdrawn_at));
  let secret = $state('');
  const draft = new Draft('token', { name: '', scope: 'read', days: '365' });
  const GOOD_FOR = {
    read: 'looking at everything that you may look at',
    work: 'what a technician does',
    enrol: 'adding machines and letting their agents in',
    metrics: 'what the service measures of itself',
    everything: 'everything that its person may do'
  };
  let problem = $state('');

  async function make(event: SubmitEvent) {
    event.preventDefault();
    const { name, scope, days } = draft.fields;
    const { data, error } = await api.POST('/api/v2/tokens', {
      body: { name, scope: scope as 'read', days: Number(days) }
    });
    problem = error ? inWords(error) : '';
    secret = data?.token ?? '';
    if (data) draft.reset();
    await refresh('/api/v2/tokens', '/api/v2/audit');
  }
  async function withdraw(id: number) {
    const { error } = await api.DELETE('/api/v2/tokens/{token_id}', {
      params: { path: { token_id: id } }
    });
    problem = error ? inWords(error) : '';
    await refresh('/api/v2/tokens', '/api/v2/audit');
  }
</script>

<svelte:head><title>Access – Phylax</title></svelte:head>

<h1>Access tokens for programs</h1>
<p class="muted mt-1">
  A program that carries a token may do what it is good for, until it expires.
</p>
{#if asked.data}
  <ul class="ruled mt-4 max-w-2xl" data-testid="tokens">
    {#each tokens as token (token.id)}
      <li class="flex items-center justify-between gap-3 py-2">
        <span>
          {token.name}
          <span class="muted block text-sm">
            {token.login}, for {GOOD_FOR[token.scope]}; made <When at={token.made_at} />, last used
            {#if token.used_at}<When at={token.used_at} />{:else}never{/if}, expires
            {#if token.expires_at}<When at={token.expires_at} />{:else}never{/if}
          </span>
        </span>
        <button class="act" onclick={() => withdraw(token.id)}>Withdraw</button>
      </li>
    {:else}
      <li class="muted py-2">None yet.</li>
    {/each}
  </ul>
{:else}
  <div class="mt-4"><Failed query={asked} /></div>
{/if}
<form class="mt-4 flex max-w-2xl flex-wrap items-end gap-2" onsubmit={make}>
  <label class="field min-w-48 flex-1">
    <span>What the token is for</span>
    <input class="box" bind:value={draft.fields.name} required maxlength="120" />
  </label>
  <label class="field">
    <span>It is good for</span>
    <select class="box" bind:value={draft.fields.scope}>
      {#each ['read', 'work', 'enrol', 'metrics'] as const as scope (scope)}
        <option value={scope}>{GOOD_FOR[scope]}</option>
      {/each}
    </select>
  </label>
  <label class="field">
    <span>Days</span>
    <input
      class="box w-20"
      type="number"
      min="1"
      max="730"
      bind:value={draft.fields.days}
      required
    />
  </label>
  <button class="act">Make a token</button>
</form>
{#if secret}
  <p class="mt-2" role="status">Shown only once: <code class="break-all">{secret}</code></p>
{/if}
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
