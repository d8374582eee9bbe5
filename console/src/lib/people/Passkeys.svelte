<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import When from '$lib/components/When.svelte';
  import { inDeviceWords, make, whyNone } from './passkeys';

  const asked = createQuery(() => ask('/api/v2/me/passkeys'));
  const none = whyNone();
  let name = $state('');
  let problem = $state('');
  let busy = $state(false);

  async function add(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    problem = await begin();
    busy = false;
    if (!problem) name = '';
    await load();
  }
  async function begin(): Promise<string> {
    const { data, error } = await api.POST('/api/v2/me/passkeys/question');
    if (!data) return inWords(error);
    let credential;
    try {
      credential = await make(data.options);
    } catch (thrown) {
      return inDeviceWords(thrown);
    }
    const kept = await api.POST('/api/v2/me/passkeys', { body: { name, credential } });
    return kept.error ? inWords(kept.error) : '';
  }
  async function takeOff(id: number) {
    const { error } = await api.DELETE('/api/v2/me/passkeys/{passkey_id}', {
      params: { path: { passkey_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
  const load = () => refresh('/api/v2/me/passkeys', '/api/v2/me', '/api/v2/people');
</script>

<h2 class="mt-8">Passkeys</h2>
<p class="mt-2 max-w-2xl">
  Your phone, computer or security key lets you in once it has checked that it is you: no password,
  no code. A page that only looks like this one gets nothing.
</p>
{#if asked.data?.length}
  <ul class="ruled mt-2 max-w-3xl" data-testid="passkeys">
    {#each asked.data as passkey (passkey.id)}
      <li class="flex items-center justify-between gap-3 py-2">
        <span class="min-w-0">
          <span class="block break-words">{passkey.name}</span>
          <span class="muted text-sm">
            for {passkey.host}, since <When at={passkey.made_at} />{#if passkey.used_at}, last used
              <When at={passkey.used_at} />{/if}
          </span>
        </span>
        <button class="act shrink-0" onclick={() => takeOff(passkey.id)}>Take it off</button>
      </li>
    {/each}
  </ul>
{/if}
{#if none}<p class="muted mt-2 text-sm">{none}</p>
{:else}
  <form class="mt-3 flex flex-wrap items-end gap-2" onsubmit={add}>
    <label class="field">
      <span>What the device is called</span>
      <input class="box w-56" bind:value={name} required maxlength="60" placeholder="Phone" />
    </label>
    <button class="act" disabled={busy}>{busy ? 'Asking the device…' : 'Add a passkey'}</button>
  </form>
{/if}
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
