<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';

  let { tag }: { tag: string } = $props();
  const roundsAsked = createQuery(() =>
    ask('/api/v2/machines/{machine}/rounds', { params: { path: { machine: tag } } })
  );
</script>

<ul class="ruled mt-2">
  {#each roundsAsked.data ?? [] as round (round.id)}
    <li class="flex flex-wrap justify-between gap-2 py-2">
      <span
        ><a class="anchor" href="/rounds/{round.id}">{round.name}</a>
        <span class="muted">{round.how_often}</span></span
      >
      <span
        >{#if round.plan.paused}paused{:else}next <When at={round.next_at} />{/if}</span
      >
    </li>
  {:else}
    <li class="muted py-2">
      {#if roundsAsked.data}No round covers this machine.{:else}<Failed query={roundsAsked} />{/if}
    </li>
  {/each}
</ul>
