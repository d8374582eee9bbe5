<script lang="ts">
  import { differences, type Changed } from '$lib/conflict';
  import When from './When.svelte';

  interface Props {
    changed: Changed<unknown>;
    /** Both versions in words, field by field. */
    ours: Record<string, string>;
    theirs: Record<string, string>;
    /** Save ours over theirs, which was seen. */
    onours: () => void;
    ontheirs: () => void;
  }
  let { changed, ours, theirs, onours, ontheirs }: Props = $props();
  const rows = $derived(differences(ours, theirs));
</script>

<section class="rounded-md border border-[var(--look)] p-4" data-testid="conflict" role="alert">
  <h2 class="lookhere">{changed.who} changed this while you were editing</h2>
  <p class="muted text-sm"><When at={changed.at} />. Nothing of yours is lost.</p>
  {#if rows.length}
    <table class="sheet mt-2">
      <caption class="sr-only">Both versions</caption>
      <thead>
        <tr><td></td><th scope="col">yours</th><th scope="col">theirs</th></tr>
      </thead>
      <tbody>
        {#each rows as [name, our, their] (name)}
          <tr>
            <th scope="row">{name}</th>
            <td class="break-words">{our || '–'}</td>
            <td class="break-words">{their || '–'}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}
    <p>Both versions are the same.</p>
  {/if}
  <div class="mt-3 flex flex-wrap gap-2">
    <button type="button" class="act main" onclick={onours}>Save mine</button>
    <button type="button" class="act" onclick={ontheirs}>Take theirs</button>
  </div>
</section>
