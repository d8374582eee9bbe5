<script lang="ts">
  import { api, inWords, type Round } from '$lib/api/client';
  import { live } from '$lib/api/live.svelte';
  import When from '$lib/components/When.svelte';
  import { count } from '$lib/words';
  import Plus from '@lucide/svelte/icons/plus';

  let rounds = $state<Round[] | null>(null);
  let problem = $state('');

  async function load() {
    const { data, error } = await api.GET('/api/v1/rounds', { params: { query: { limit: 500 } } });
    if (data) rounds = data.toSorted((a, b) => (a.next_at ?? '~').localeCompare(b.next_at ?? '~'));
    else problem = inWords(error);
  }
  $effect(() => {
    void load();
    return live.on(['round', 'run'], () => void load(), 500);
  });

  async function pause(round: Round) {
    const { error } = await api.PUT('/api/v1/rounds/{round_id}', {
      params: { path: { round_id: round.id } },
      headers: { 'If-Match': `"${round.version}"` },
      body: {
        name: round.name,
        recurrence: round.recurrence,
        at: round.at,
        starts_on: round.starts_on,
        catch_up: round.catch_up,
        machine_ids: round.machine_ids,
        categories: round.categories,
        paused: !round.paused
      }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
</script>

<svelte:head><title>Rounds – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Rounds</h1>
  <a class="act main" href="/rounds/new"><Plus aria-hidden="true" />Make a round</a>
</div>
{#if problem}<p class="lossy mt-4">{problem}</p>{/if}
{#if rounds && !rounds.length}
  <p class="mt-6">No rounds yet. Junk creeps back quietly: make the first one.</p>
{:else if rounds}
  <div class="mt-4 overflow-x-auto">
    <table class="sheet">
      <thead>
        <tr
          ><th>round</th><th>how often</th><th>machines</th><th>cleans</th><th>next</th><th
          ></th></tr
        >
      </thead>
      <tbody>
        {#each rounds as round (round.id)}
          <tr>
            <td class="font-semibold">{round.name}</td>
            <td>{round.how_often}</td>
            <td>{count(round.machine_ids.length, 'machine')}</td>
            <td>{round.categories.join(', ')}</td>
            <td class="whitespace-nowrap">
              {#if round.paused}<span class="lookhere">paused</span>{:else}<When
                  at={round.next_at}
                />{/if}
            </td>
            <td>
              <button class="act" onclick={() => pause(round)}
                >{round.paused ? 'Go on' : 'Pause'}</button
              >
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
