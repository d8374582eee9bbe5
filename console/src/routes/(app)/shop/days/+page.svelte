<script lang="ts">
  import ClosingDates from '$lib/components/ClosingDates.svelte';
  import { useMe } from '$lib/session';

  const me = useMe();
</script>

<svelte:head><title>Closing days – Phylax</title></svelte:head>

<ClosingDates mayChange={me.data !== undefined && me.data.role !== 'desk'} />
