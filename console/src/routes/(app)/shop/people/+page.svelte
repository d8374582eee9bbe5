<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';

  const asked = createQuery(() => ask('/api/v1/people'));
</script>

<svelte:head><title>People – Phylax</title></svelte:head>

<h1>People</h1>
{#if asked.data}
  <div class="mt-4 max-w-2xl">
    <table class="sheet">
      <caption class="sr-only">Who may sign in, and what they may do</caption>
      <thead>
        <tr><th scope="col">name</th><th scope="col">login</th><th scope="col">role</th></tr>
      </thead>
      <tbody>
        {#each asked.data as person (person.id)}
          <tr>
            <th scope="row">{person.name}</th>
            <td>{person.login}</td>
            <td>{person.role}{person.active ? '' : ', may not sign in'}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  <p class="muted mt-3 text-sm">
    Owners may do everything, technicians the work, the desk adds machines and reads. People are
    added with <code>phylax shop add-person</code>.
  </p>
{:else}
  <Failed query={asked} />
{/if}
