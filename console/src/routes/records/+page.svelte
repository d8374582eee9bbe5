<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords, type MaintenanceRecord } from '$lib/api/client';
  import { live } from '$lib/api/live.svelte';
  import Timeline from '$lib/components/Timeline.svelte';

  let records = $state<MaintenanceRecord[]>([]);
  let more = $state(false);
  let problem = $state('');
  const words = $derived(page.url.searchParams.get('words') ?? '');

  async function load(wanted: string, before?: number) {
    const { data, error, response } = await api.GET('/api/v1/records', {
      params: { query: { words: wanted, limit: 40, before } }
    });
    if (!data) {
      problem = inWords(error);
      return;
    }
    records = before ? [...records, ...data] : data;
    more = response.headers.has('Link');
  }
  $effect(() => {
    const wanted = words;
    void load(wanted);
    return live.on(['record'], () => void load(wanted), 800);
  });
</script>

<svelte:head><title>Records – Phylax</title></svelte:head>

<h1>Records</h1>
<label class="sr-only" for="words">Search everything that was done or written</label>
<input
  id="words"
  class="box mt-4 max-w-md"
  placeholder="Search everything that was done or written"
  value={words}
  oninput={(e) => {
    const wanted = encodeURIComponent(e.currentTarget.value);
    void goto(`/records?words=${wanted}`, { replaceState: true, keepFocus: true });
  }}
/>
{#if problem}<p class="lossy mt-4">{problem}</p>{/if}
<div class="mt-2"><Timeline {records} withMachine /></div>
{#if more}<button class="act" onclick={() => load(words, records.at(-1)?.id)}>Show older</button
  >{/if}
