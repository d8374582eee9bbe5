<script lang="ts">
  import type { Component } from 'svelte';
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import HasChanged from '$lib/components/HasChanged.svelte';
  import { Still } from '$lib/still.svelte';
  import type { Run } from '$lib/api/client';
  import Later from '$lib/components/Later.svelte';
  import NeedsAttention from '$lib/components/NeedsAttention.svelte';
  import RunProgress from '$lib/components/RunProgress.svelte';
  import RunState from '$lib/components/RunState.svelte';
  import When from '$lib/components/When.svelte';
  import WorthAWord from '$lib/tuning/WorthAWord.svelte';
  import { useMay } from '$lib/session';
  import { count, size } from '$lib/words';

  const asked = createQuery(() => ask('/api/v2/today'));
  const today = $derived(asked.data ?? null);
  const NONE: Run[] = [];
  const shopAsked = createQuery(() => ask('/api/v2/shop'));
  const may = useMay();
  /** What stands above the lists: the tour of the demo, or the way to a young shop's first round.
   * Decided and drawn once, before the lists: what somebody points at must not move. */
  let Lead = $state.raw<Component<{ onclose: () => void; ondrawn: () => void }> | null>(null);
  let decided = $state(false);
  let leadDrawn = $state(false);
  const TOUR = 'phylax-tour';
  $effect(() => {
    if (decided || !today || shopAsked.isPending) return;
    const isTour = shopAsked.data?.is_demo && localStorage.getItem(TOUR) !== 'ended';
    const isYoung = may.work && today.next_rounds.length === 0;
    void (async () => {
      try {
        if (isTour) Lead = (await import('$lib/first/Tour.svelte')).default;
        else if (isYoung) Lead = (await import('$lib/first/FirstShop.svelte')).default;
      } catch {
        // the service is away, and with it the guide: the lists need none
      } finally {
        decided = true;
      }
    })();
  });
  function endTour() {
    Lead = null;
    localStorage.setItem(TOUR, 'ended');
  }
  const done = new Still(() => today?.done ?? NONE);
  const cleaned = $derived(today?.done.filter((r) => r.work === 'clean' && r.removed) ?? []);
</script>

<svelte:head><title>Today – Phylax</title></svelte:head>

{#if !today || !decided}
  <Failed query={asked} />
{:else}
  <h1 data-testid="sentence">{today.sentence}</h1>
  {#if today.shop_needs}
    <p class="lossy mt-3" role="status">
      {today.shop_needs} <a class="anchor" href="/shop">See the backups</a>
    </p>
  {/if}
  <Lead onclose={endTour} ondrawn={() => (leadDrawn = true)} />
  {#if leadDrawn || !Lead}
    <div class="mt-6 grid gap-10 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <section aria-labelledby="needs">
        <h2 id="needs"><Term of="attention">Needs attention</Term></h2>
        <NeedsAttention
          needs={today.needs_attention}
          onhandled={() => void refresh('/api/v2/today', '/api/v2/attention')}
        />
        <p class="mt-3"><a class="anchor" href="/trends">Trends over the shop</a></p>
      </section>
      <Later>
        <div class="space-y-8">
          <section aria-labelledby="now">
            <h2 id="now">Runs now</h2>
            {#each today.running as run (run.id)}
              <div class="mt-3">
                <p><a class="anchor" href="/machines/{run.machine_tag}">{run.machine_tag}</a></p>
                <RunProgress {run} brief />
              </div>
            {:else}
              <p class="muted mt-2">Nothing at the moment.</p>
            {/each}
            {#if today.waiting.length}
              <p class="muted mt-2 text-sm">
                {count(today.waiting.length, 'run')} wait for their machine:
                {today.waiting
                  .slice(0, 4)
                  .map((r) => r.machine_tag)
                  .join(', ')}{today.waiting.length > 4 ? ' …' : ''}
              </p>
            {/if}
          </section>
          <section aria-labelledby="next">
            <h2 id="next">Runs next</h2>
            <ul class="ruled mt-2">
              {#each today.next_rounds.slice(0, 5) as round (round.id)}
                <li class="flex justify-between gap-4 py-2">
                  <span>
                    {round.name}
                    <span class="muted block text-sm">{count(round.machines, 'machine')}</span>
                  </span>
                  <span class="whitespace-nowrap">
                    {#if round.plan.paused}paused{:else}<When at={round.next_at} />{/if}
                  </span>
                </li>
              {:else}
                <li class="py-2"><a class="anchor" href="/rounds/new">Make the first round</a></li>
              {/each}
            </ul>
          </section>
          <section aria-labelledby="done">
            <h2 id="done">Done since yesterday</h2>
            <HasChanged list={done} />
            <p class="mt-2">
              {size(today.freed)} freed in {count(cleaned.length, 'cleaning')}
            </p>
            <ul class="ruled mt-1" {@attach done.within}>
              {#each done.shown.slice(0, 6) as run (run.id)}
                <li class="flex justify-between gap-4 py-2">
                  <span>
                    <a class="anchor" href="/machines/{run.machine_tag}">{run.machine_tag}</a>
                    <span class="muted block text-sm">{run.work}, <When at={run.ended_at} /></span>
                  </span>
                  <span class="text-right">
                    <RunState state={run.state} />
                    {#if run.freed !== null && run.work === 'clean'}
                      <span class="muted block text-sm">{size(run.freed)} freed</span>
                    {/if}
                  </span>
                </li>
              {/each}
            </ul>
          </section>
          <WorthAWord />
        </div>
      </Later>
    </div>
  {/if}
{/if}
