<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';

  let { machine }: { machine: Pick<Machine, 'tag'> } = $props();
  type Advice = Schema['GivenAdvice'];
  type Fate = Advice['fate'];
  const NEXT: Record<Fate, { fate: Fate; name: string }[]> = {
    proposed: [
      { fate: 'told', name: 'The client was told' },
      { fate: 'dropped', name: 'Drop it' }
    ],
    told: [
      { fate: 'accepted', name: 'Accepted' },
      { fate: 'declined', name: 'Declined' }
    ],
    accepted: [{ fate: 'done', name: 'Done' }],
    declined: [{ fate: 'told', name: 'The client was asked again' }],
    done: [],
    dropped: []
  };
  const may = useMay();
  const doing = new Doing();
  const asked = createQuery(() =>
    ask('/api/v1/machines/{machine}/advice', { params: { path: { machine: machine.tag } } })
  );
  let words = $state<Record<number, string>>({});
  let days = $state<Record<number, string>>({});

  async function say(advice: Advice, fate: Fate) {
    const call = () =>
      api.POST('/api/v1/advice/{number}/fate', {
        params: { path: { number: advice.id } },
        body: {
          fate,
          word: (words[advice.id] ?? '').trim(),
          again_on: fate === 'declined' ? days[advice.id] || null : null
        }
      });
    if (await doing.try(call)) {
      words[advice.id] = '';
      await refresh('/api/v1/machines/{machine}/advice');
    }
  }
</script>

{#if !asked.data}<Failed query={asked} />{:else}
  {#if asked.data.length === 0}<p class="mt-2">Nothing speaks for any.</p>{/if}
  <ul class="ruled mt-1" data-testid="advice">
    {#each asked.data as advice (advice.id)}
      <li class="py-2.5">
        <p class="max-w-prose">
          <strong class="inline-block first-letter:uppercase">{advice.kind}</strong>: {advice.text}
        </p>
        <p class="muted text-sm">
          {(advice.figures ?? []).map((figure) => `${figure.name} ${figure.value}`).join('; ')}
        </p>
        <p class="muted text-sm">
          {advice.fate} by {advice.by}, <When at={advice.at} />{advice.word
            ? `: ${advice.word}`
            : ''}{advice.again_on ? `; not asked again before ${advice.again_on}` : ''}
        </p>
        {#if may.work && NEXT[advice.fate].length}
          <div class="noprint mt-1 flex flex-wrap items-center gap-2">
            <input
              class="box w-52"
              placeholder="A word about it"
              aria-label="A word about {advice.kind}"
              maxlength="400"
              bind:value={words[advice.id]}
            />
            {#if advice.fate === 'told'}
              <label class="flex items-center gap-2 text-sm">
                Declined: ask again on
                <input class="box" type="date" bind:value={days[advice.id]} />
              </label>
            {/if}
            {#each NEXT[advice.fate] as { fate, name } (fate)}
              <button class="act" disabled={doing.busy} onclick={() => say(advice, fate)}
                >{name}</button
              >
            {/each}
          </div>
        {/if}
      </li>
    {/each}
  </ul>
  <Outcome of={doing} />
{/if}
