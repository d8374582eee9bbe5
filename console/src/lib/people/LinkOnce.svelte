<script module lang="ts">
  export interface Shown {
    name: string;
    secret: string;
    until: string;
  }
</script>

<script lang="ts">
  import When from '$lib/components/When.svelte';

  let { link }: { link: Shown } = $props();
  const address = $derived(`${location.origin}/welcome#${link.secret}`);
</script>

<div class="panel mt-4 max-w-2xl space-y-2 p-4" role="status">
  <p>
    Give this link to {link.name}: it lets them choose a password, once, until
    <When at={link.until} />. It is shown only now.
  </p>
  <code class="block break-all whitespace-normal">{address}</code>
  <button class="act" onclick={() => navigator.clipboard.writeText(address)}>Copy the link</button>
</div>
