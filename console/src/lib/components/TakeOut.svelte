<script lang="ts">
  /** Everything the shop has, for other programs; the owner's. */
  const ARCHIVES = [
    { href: '/api/v2/shop/archive', name: 'The whole shop' },
    { href: '/api/v2/records/archive', name: 'The record with its chain' }
  ];
</script>

<section class="mt-8 max-w-2xl" aria-labelledby="take-out">
  <h2 id="take-out">Take everything out</h2>
  <p class="muted mt-1 text-sm">
    As a ZIP of lists that any program reads, with a description of each. Who took what out stands
    under Changes. It names every client: keep it well.
  </p>
  <p class="mt-3 flex flex-wrap gap-3">
    {#each ARCHIVES as { href, name } (href)}<a class="act" {href} download>{name}</a>{/each}
  </p>
  <p class="muted mt-2 text-sm">
    From the first, “phylax shop load” builds the shop anew; the second is verified without Phylax.
  </p>
</section>
