<script lang="ts">
  import type { Attention } from '$lib/api/client';
  import Modal from '$lib/components/Modal.svelte';

  interface Done {
    handling: Attention['handling'];
    snooze_until?: string;
    comment: string;
  }
  interface Props {
    attention: Attention;
    onhandle: (body: Done) => void;
  }
  let { attention, onhandle }: Props = $props();
  let open = $state(false);
  let comment = $state('');
  let days = $state(7);

  function done(body: Done) {
    open = false;
    onhandle(body);
  }
  function putOff(event: SubmitEvent) {
    event.preventDefault();
    const snooze_until = new Date(Date.now() + days * 86_400_000).toISOString();
    done({ handling: 'put off', snooze_until, comment: '' });
  }
  function settle(event: SubmitEvent) {
    event.preventDefault();
    done({ handling: 'settled', comment });
    comment = '';
  }
</script>

<button
  class="act"
  onclick={() => (open = true)}
  aria-label="Deal with: {attention.machine_tag}, {attention.cause}">Deal with</button
>
<Modal bind:open title="{attention.machine_tag}: {attention.reason}">
  <p class="muted">{attention.evidence}.</p>
  <div class="mt-4 space-y-5">
    {#if attention.taken_by}
      <p>
        {attention.taken_by} looks after it.
        <button class="act" onclick={() => done({ handling: 'open', comment: '' })}
          >Hand it back</button
        >
      </p>
    {:else}
      <p>
        <button class="act main" onclick={() => done({ handling: 'taken on', comment: '' })}
          >Take it on</button
        >
      </p>
    {/if}
    <form class="flex flex-wrap items-end gap-2" onsubmit={putOff}>
      <label class="field">
        <span>Put it off for this many days. It comes back sooner if it gets worse.</span>
        <input class="box w-24" type="number" min="1" max="365" bind:value={days} required />
      </label>
      <button class="act">Put off</button>
    </form>
    <form class="flex flex-wrap items-end gap-2" onsubmit={settle}>
      <label class="field grow">
        <span>What was done (goes into the machine’s record)</span>
        <input class="box w-full" bind:value={comment} required maxlength="400" />
      </label>
      <button class="act">Mark as done</button>
    </form>
  </div>
</Modal>
