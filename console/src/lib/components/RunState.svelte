<script lang="ts">
  import type { Run } from '$lib/api/client';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import CircleDashed from '@lucide/svelte/icons/circle-dashed';
  import CircleSlash from '@lucide/svelte/icons/circle-slash-2';
  import CircleX from '@lucide/svelte/icons/circle-x';
  import CircleAlert from '@lucide/svelte/icons/circle-alert';
  import Loader from '@lucide/svelte/icons/loader-circle';

  let { state }: { state: Run['state'] } = $props();
  const look = $derived(
    {
      waiting: [CircleDashed, 'muted'],
      offered: [Loader, 'muted'],
      running: [Loader, ''],
      done: [CircleCheck, ''],
      partly: [CircleAlert, 'lookhere'],
      failed: [CircleX, 'lossy'],
      missed: [CircleSlash, 'lookhere'],
      'called off': [CircleSlash, 'muted']
    }[state] as [typeof CircleCheck, string]
  );
  const Mark = $derived(look[0]);
</script>

<span class="inline-flex items-center gap-1.5 whitespace-nowrap {look[1]}">
  <Mark size={15} aria-hidden="true" />{state}
</span>
