<script lang="ts">
  import Notices from '$lib/components/Notices.svelte';
  import { useMe } from '$lib/session';

  const me = useMe();
</script>

<svelte:head><title>Notices – Phylax</title></svelte:head>

{#if me.data}<Notices me={me.data} />{/if}
