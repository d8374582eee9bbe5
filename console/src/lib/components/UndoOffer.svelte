<script lang="ts">
  import { undo } from '$lib/undo.svelte';
</script>

<div aria-live="polite" class="noprint">
  {#if undo.words}
    <div
      class="offer"
      role="group"
      aria-label="Taken back"
      data-testid="undo"
      onpointerenter={() => undo.keep()}
      onpointerleave={() => undo.letGo()}
      onfocusin={() => undo.keep()}
      onfocusout={() => undo.letGo()}
    >
      <span>{undo.words}</span>
      {#if undo.doing.problem}<span class="lossy">{undo.doing.problem}</span>{/if}
      <button class="act" disabled={undo.doing.busy} onclick={() => void undo.take()}>Undo</button>
      <button class="plain" onclick={() => undo.end()}>Close</button>
    </div>
  {/if}
</div>

<style>
  .offer {
    position: fixed;
    z-index: 40;
    right: 1rem;
    bottom: 1rem;
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.5rem 1rem;
    max-width: min(34rem, calc(100vw - 2rem));
    padding: 0.6rem 1rem;
    border: 1px solid var(--line);
    border-radius: 6px;
    background: var(--raised);
    box-shadow: 0 4px 18px rgb(0 0 0 / 25%);
  }
  @media (max-width: 40rem) {
    .offer {
      bottom: 5rem;
    }
  }
</style>
