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
  type Status = Advice['status'];
  const NEXT: Record<Status, { status: Status; name: string }[]> = {
    proposed: [
      { status: 'told', name: 'The client was told' },
      { status: 'dropped', name: 'Drop it' }
    ],
    told: [
      { status: 'accepted', name: 'Accepted' },
      { status: 'declined', name: 'Declined' }
    ],
    accepted: [{ status: 'done', name: 'Done' }],
    declined: [{ status: 'told', name: 'The client was asked again' }],
    done: [],
    dropped: []
  };
  const may = useMay();
  const doing = new Doing();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/advice', { params: { path: { machine: machine.tag } } })
  );
  let words = $state<Record<number, string>>({});
  let days = $state<Record<number, string>>({});

  async function say(advice: Advice, status: Status) {
    const call = () =>
      api.POST('/api/v2/advice/{number}/status', {
        params: { path: { number: advice.id } },
        body: {
          status: status,
          comment: (words[advice.id] ?? '').trim(),
          again_on: status === 'declined' ? days[advice.id] || null : null
        }
      });
    if (await doing.try(call)) {
      words[advice.id] = '';
      await refresh('/api/v2/machines/{machine}/advice');
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
          {advice.status} by {advice.by}, <When at={advice.at} />{advice.comment
            ? `: ${advice.comment}`
            : ''}{advice.again_on ? `; not asked again before ${advice.again_on}` : ''}
        </p>
        {#if may.work && NEXT[advice.status].length}
          <div class="noprint mt-1 flex flex-wrap items-center gap-2">
            <input
              class="box w-52"
              placeholder="A word about it"
              aria-label="A word about {advice.kind}"
              maxlength="400"
              bind:value={words[advice.id]}
            />
            {#if advice.status === 'told'}
              <label class="flex items-center gap-2 text-sm">
                Declined: ask again on
                <input class="box" type="date" bind:value={days[advice.id]} />
              </label>
            {/if}
            {#each NEXT[advice.status] as { status, name } (status)}
              <button class="act" disabled={doing.busy} onclick={() => say(advice, status)}
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
