<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, inWords, type Schema } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';

  let { problem = $bindable() }: { problem: string } = $props();
  const asked = createQuery(() => ask('/api/v2/codes-rule'));
  const CHOICES = ['nobody', 'owners', 'everybody'] as const;

  async function set(box: HTMLSelectElement) {
    const { error } = await api.PUT('/api/v2/codes-rule', {
      body: { codes_for: box.value as Schema['CodesFor'] }
    });
    problem = error ? inWords(error) : '';
    if (error) box.value = asked.data?.codes_for ?? 'nobody';
    await refresh('/api/v2/codes-rule', '/api/v2/audit');
  }
</script>

{#if asked.data}
  <label class="field mt-6 w-80 max-w-full">
    <span>Who has to sign in with a code or a passkey as well</span>
    <select class="box" value={asked.data.codes_for} onchange={(event) => set(event.currentTarget)}>
      {#each CHOICES as choice (choice)}<option value={choice}>{choice}</option>{/each}
    </select>
  </label>
{/if}
