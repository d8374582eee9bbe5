<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api, inWords, type Person } from '$lib/api/client';
  import Hooks from '$lib/components/Hooks.svelte';
  import MailServer from '$lib/components/MailServer.svelte';
  import MailWishes from '$lib/components/MailWishes.svelte';
  import When from '$lib/components/When.svelte';

  let { me }: { me: Person } = $props();
  const asked = createQuery(() => ask('/api/v2/notices', { params: { query: { limit: 12 } } }));
  const log = $derived(asked.data ?? []);
  let problem = $state('');
  const isOwner = $derived(me.role === 'owner');

  const load = () => refresh('/api/v2/notices');

  async function again(id: number) {
    const { error } = await api.POST('/api/v2/notices/{notice_id}/again', {
      params: { path: { notice_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
</script>

<section class="lg:col-span-2" aria-labelledby="notices">
  <h1 id="notices">Notices</h1>
  <div class="mt-2 grid gap-10 lg:grid-cols-2">
    <div><MailWishes {me} onsent={() => void load()} /></div>
    {#if isOwner}
      <div class="space-y-6">
        <div><MailServer /></div>
        <div><Hooks /></div>
      </div>
    {/if}
  </div>
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
  <h2 class="mt-6 font-semibold"><Term of="notice">What was sent</Term></h2>
  <table class="sheet mt-1" data-testid="notice-log">
    <caption class="sr-only">Notices sent</caption>
    <thead
      ><tr
        ><th scope="col">when</th><th scope="col" class="hidden sm:table-cell">to</th><th
          scope="col">what</th
        ><th scope="col">status</th></tr
      ></thead
    >
    <tbody>
      {#each log as one (one.id)}
        <tr>
          <td class="whitespace-nowrap"><When at={one.made_at} /></td>
          <td class="hidden sm:table-cell">{one.receiver}</td>
          <td
            >{one.subject} <span class="muted text-sm">{one.kind}</span>
            <span class="muted block text-sm sm:hidden">{one.receiver}</span></td
          >
          <td>
            {one.state}{#if one.state === 'waiting'}{' '}<span class="muted text-sm"
                >until <When at={one.due_at} /></span
              >{/if}
            {#if one.error}<span class="muted block text-sm">{one.error}</span>{/if}
            {#if one.state === 'given up' && isOwner}
              <button class="act" onclick={() => again(one.id)}>Try again</button>{/if}
          </td>
        </tr>
      {:else}
        <tr
          ><td colspan="4" class="muted"
            >{#if asked.data}Nothing yet.{:else}<Failed query={asked} />{/if}</td
          ></tr
        >
      {/each}
    </tbody>
  </table>
</section>
