<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { itemsOf } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import NoteForm from '$lib/components/NoteForm.svelte';
  import Timeline from '$lib/components/Timeline.svelte';
  import { askRecords } from './records';

  let { machine }: { machine: Machine } = $props();
  const recordsAsked = createInfiniteQuery(() => askRecords(machine.tag));
</script>

{#key machine.id}<NoteForm {machine} />{/key}
{#if recordsAsked.data}<Timeline records={itemsOf(recordsAsked.data)} byVisit />{:else}<Failed
    query={recordsAsked}
  />{/if}
{#if recordsAsked.hasNextPage}
  <button
    class="act noprint"
    disabled={recordsAsked.isFetchingNextPage}
    onclick={() => recordsAsked.fetchNextPage()}>Show older</button
  >
{/if}
