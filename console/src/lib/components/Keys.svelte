<script lang="ts">
  import Modal from './Modal.svelte';

  interface Props {
    open: boolean;
    places: { name: string; key: string }[];
  }
  let { open = $bindable(), places }: Props = $props();
</script>

<Modal bind:open title="Keys">
  <dl class="grid grid-cols-[4rem_1fr] gap-y-1">
    <dt><kbd>/</kbd></dt>
    <dd>find a machine, client, entry, page or action</dd>
    {#each places as place (place.key)}
      <dt><kbd>{place.key}</kbd></dt>
      <dd>{place.name}</dd>
    {/each}
    <dt><kbd>1</kbd> to <kbd>9</kbd></dt>
    <dd>the sections of the page, in order</dd>
    <dt><kbd>?</kbd></dt>
    <dd>this list</dd>
  </dl>
</Modal>

<style>
  kbd {
    font-family: 'Atkinson Hyperlegible Mono Variable', monospace;
    border: 1px solid var(--line);
    border-radius: 0.2rem;
    padding: 0 0.35rem;
  }
</style>
