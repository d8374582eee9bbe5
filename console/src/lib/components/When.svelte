<script lang="ts">
  import { full, when } from '$lib/words';
  let { at }: { at: string | null | undefined } = $props();
</script>

{#if at}<time datetime={at} title={full(at)}>{when(at)}</time>{:else}–{/if}
