<script lang="ts">
  import { inBase64 } from '$lib/api/base64';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { refresh } from '$lib/api/queries';
  import Outcome from '$lib/components/Outcome.svelte';

  let { letterhead }: { letterhead: Schema['Letterhead'] } = $props();
  const doing = new Doing();
  const headers = $derived({ 'If-Match': `"${letterhead.version ?? 0}"` });

  async function upload(event: Event) {
    const input = event.currentTarget as HTMLInputElement;
    const file = input.files?.[0];
    if (!file) return;
    const content = await inBase64(file);
    await doing.try<unknown>(
      () => api.PUT('/api/v2/letterhead/mark', { headers, body: { content } }),
      'Uploaded.'
    );
    input.value = '';
    await refresh('/api/v2/letterhead');
  }
  async function takeAway() {
    await doing.try<unknown>(() => api.DELETE('/api/v2/letterhead/mark', { headers }));
    await refresh('/api/v2/letterhead');
  }
</script>

<section class="mt-8" aria-labelledby="mark">
  <h2 id="mark">The shop's mark</h2>
  <p class="muted text-sm">
    An SVG, PNG or JPEG of at most 512 KiB, without links and scripts. It stands on the right of the
    head.
  </p>
  {#if letterhead.mark}
    <p class="mt-3 inline-block bg-white p-3">
      <img
        src="/api/v2/letterhead/mark?version={letterhead.version}"
        alt="The mark"
        class="h-16 w-auto"
      />
    </p>
  {/if}
  <div class="mt-3 flex flex-wrap items-end gap-4">
    <label class="field">
      <span>{letterhead.mark ? 'Another one' : 'Upload one'}</span>
      <input
        type="file"
        accept="image/svg+xml,image/png,image/jpeg"
        onchange={upload}
        disabled={doing.busy}
      />
    </label>
    {#if letterhead.mark}
      <button class="act" disabled={doing.busy} onclick={takeAway}>Take it away</button>
    {/if}
  </div>
  <Outcome of={doing} />
</section>
