<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Person } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from './Failed.svelte';
  import WishesForm from './WishesForm.svelte';

  let { me, onsent }: { me: Person; onsent: () => void } = $props();
  const asked = createQuery(() =>
    ask('/api/v2/people/{person_id}/notices', { params: { path: { person_id: me.id } } })
  );
</script>

{#if asked.data}
  {#key me.id}<WishesForm {me} wishes={asked.data} {onsent} />{/key}
{:else}<Failed query={asked} />{/if}
