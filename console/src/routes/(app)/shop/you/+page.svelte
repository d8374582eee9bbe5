<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { goto } from '$app/navigation';
  import { api, inWords } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import { useMe } from '$lib/session';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import Codes from '$lib/people/Codes.svelte';
  import Passkeys from '$lib/people/Passkeys.svelte';
  import NewPassword from '$lib/people/NewPassword.svelte';

  const asked = createQuery(() => ask('/api/v2/me/sign-ins'));
  const me = useMe();
  let problem = $state('');

  async function end(id: number) {
    const { error } = await api.DELETE('/api/v2/me/sign-ins/{sign_in_id}', {
      params: { path: { sign_in_id: id } }
    });
    problem = error ? inWords(error) : '';
    await refresh('/api/v2/me/sign-ins');
  }
  async function endAll() {
    const { error } = await api.DELETE('/api/v2/me/sign-ins');
    problem = error ? inWords(error) : '';
    if (!error) await goto('/sign-in');
  }
</script>

<svelte:head><title>You – Phylax</title></svelte:head>

<h1>{me.data?.name ?? 'You'}</h1>
<h2 class="mt-6">Where you are signed in</h2>
{#if asked.data}
  <ul class="ruled mt-2 max-w-3xl" data-testid="sign-ins">
    {#each asked.data as signIn (signIn.id)}
      <li class="flex items-center justify-between gap-3 py-2">
        <span class="min-w-0">
          <span class="block break-words">{signIn.browser || 'an unknown browser'}</span>
          <span class="muted text-sm">
            {signIn.address ? `from ${signIn.address}, ` : ''}since <When at={signIn.since} />, last
            used <When at={signIn.seen_at} />
          </span>
        </span>
        {#if signIn.is_this}<span class="muted shrink-0 text-sm">this browser</span>
        {:else}<button class="act shrink-0" onclick={() => end(signIn.id)}>Sign it out</button>{/if}
      </li>
    {/each}
  </ul>
  <p class="mt-3">
    <button class="act" onclick={endAll}>Sign out everywhere</button>
    <span class="muted text-sm">Programs and command lines that you signed in, too.</span>
  </p>
{:else}
  <Failed query={asked} />
{/if}
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if me.data}<Codes me={me.data} />{/if}
<Passkeys />
<NewPassword />
