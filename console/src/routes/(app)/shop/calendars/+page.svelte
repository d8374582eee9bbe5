<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import CalendarFeeds from '$lib/components/CalendarFeeds.svelte';
  import { useMe } from '$lib/session';

  const me = useMe();
  const people = createQuery(() => ask('/api/v2/people'));
</script>

<svelte:head><title>Calendars – Phylax</title></svelte:head>

<CalendarFeeds
  people={people.data ?? []}
  mayChange={me.data !== undefined && me.data.role !== 'desk'}
/>
