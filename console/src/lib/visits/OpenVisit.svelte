<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import { waitingFor } from './words';

  /** The visit of a machine that is open, or how to open one. */
  let { machine }: { machine: Machine } = $props();
  const asked = createQuery(() =>
    ask('/api/v2/visits', { params: { query: { machine: machine.tag, limit: 1 } } })
  );
  const open = $derived((asked.data ?? []).find((visit) => !visit.closed_at));
</script>

{#if open}
  <p class="mt-2" data-testid="visit">
    Open: <a class="anchor" href="/visits/{open.id}">visit {open.id}</a>. {waitingFor(
      open
    )}{open.todo ? `: ${open.todo}` : ''}.
  </p>
{:else if asked.data && !machine.retired_at}
  <p class="noprint mt-2 text-sm">
    <a class="anchor" href="/visits/new?machine={machine.tag}">Check it in</a>
  </p>
{/if}
