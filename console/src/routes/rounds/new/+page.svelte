<script lang="ts">
  import { page } from '$app/state';
  import { api, inWords, type Machine, type Round } from '$lib/api/client';
  import RoundForm from '$lib/components/RoundForm.svelte';

  const number = $derived(Number(page.url.searchParams.get('round') ?? 0));
  let machines = $state<Machine[] | null>(null);
  let round = $state<Round | undefined>();
  let problem = $state('');

  async function load(wanted: number) {
    const found: Machine[] = [];
    for (let after = 0; ;) {
      const { data, response } = await api.GET('/api/v1/machines', {
        params: { query: { after, limit: 500 } }
      });
      found.push(...(data ?? []));
      if (!data || !response.headers.has('Link')) break;
      after = data.at(-1)?.id ?? 0;
    }
    if (wanted) {
      const { data, error } = await api.GET('/api/v1/rounds/{round_id}', {
        params: { path: { round_id: wanted } }
      });
      round = data;
      problem = error ? inWords(error) : '';
    }
    machines = found;
  }
  $effect(() => void load(number));
</script>

<svelte:head><title>{number ? 'Change' : 'Make'} a round – Phylax</title></svelte:head>

<h1>{number ? 'Change a round' : 'Make a round'}</h1>
{#if problem}
  <p class="lossy mt-4" role="alert">{problem}</p>
{:else if machines}
  <RoundForm {round} {machines} chosenTag={page.url.searchParams.get('machine')} />
{/if}
