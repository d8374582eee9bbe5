<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import { count } from '$lib/words';

  // one machine's programs are seen on its own page
  const asked = createQuery(() =>
    ask('/api/v2/unknown-programs', { params: { query: { least_machines: 2, limit: 3 } } })
  );
</script>

{#if asked.data?.length}
  <section aria-labelledby="worth-a-word" data-testid="worth-a-word">
    <h2 id="worth-a-word">Not written about yet</h2>
    <p class="muted text-sm">Programs that run by themselves, and what they are nobody has said.</p>
    <ul class="ruled mt-1">
      {#each asked.data as program (program.key)}
        <li class="py-2">
          <a class="anchor" href="/rules/programs">{program.name}</a>
          <span class="muted block text-sm">
            on {count(program.machines, 'machine')} of {count(program.clients, 'client')}
          </span>
        </li>
      {/each}
    </ul>
  </section>
{/if}
