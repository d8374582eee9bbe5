<script lang="ts" generics="T">
  import type { Still } from '$lib/still.svelte';

  let { list }: { list: Still<T> } = $props();
</script>

<!-- takes no room: what is read must not move for it either -->
<div class="noprint relative h-0" role="status">
  {#if list.hasChanged}
    <p
      class="absolute right-0 bottom-1 z-10 rounded-md border border-[var(--line)] bg-[var(--raised)] px-3 py-1 text-sm shadow-xl"
    >
      This has changed.
      <button class="plain" onclick={list.release}>Show it now</button>
    </p>
  {/if}
</div>
