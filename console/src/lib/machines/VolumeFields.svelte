<script lang="ts">
  interface Props {
    way: 'all' | 'only' | 'but';
    names: string;
  }
  let { way = $bindable(), names = $bindable() }: Props = $props();
</script>

<div class="flex flex-wrap items-end gap-3">
  <label class="field">
    <span>on which volumes it looks and cleans</span>
    <select class="box w-44" bind:value={way}>
      <option value="all">all of a machine's</option>
      <option value="only">only these</option>
      <option value="but">all but these</option>
    </select>
  </label>
  {#if way !== 'all'}
    <label class="field">
      <span>volumes, as the machines name them</span>
      <input class="box w-48" bind:value={names} required placeholder="C:, /home" />
    </label>
  {/if}
</div>
