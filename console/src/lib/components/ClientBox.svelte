<script lang="ts">
  import type { ComponentProps } from 'svelte';
  import type ClientComboboxType from './ClientCombobox.svelte';
  import Later from './Later.svelte';

  let { value = $bindable(), label, ...rest }: ComponentProps<typeof ClientComboboxType> = $props();
</script>

{#snippet before()}
  <label class="field"><span>{label}</span><input class="box" readonly /></label>
{/snippet}

<!-- its script is fetched beside the page, which does not wait for it -->
<Later {before}>
  {#await import('./ClientCombobox.svelte')}
    {@render before()}
  {:then { default: ClientCombobox }}
    <ClientCombobox bind:value {label} {...rest} />
  {:catch}
    <p class="lossy">The list of clients could not be loaded. Reload the page.</p>
  {/await}
</Later>
