<script lang="ts">
  import type { Attention } from '$lib/api/client';
  import Modal from '$lib/components/Modal.svelte';

  interface Done {
    handling: Attention['handling'];
    until?: string;
    word: string;
  }
  interface Props {
    attention: Attention;
    onhandle: (body: Done) => void;
  }
  let { attention, onhandle }: Props = $props();
  let open = $state(false);
  let word = $state('');
  let days = $state(7);

  function done(body: Done) {
    open = false;
    onhandle(body);
  }
  function putOff(event: SubmitEvent) {
    event.preventDefault();
    const until = new Date(Date.now() + days * 86_400_000).toISOString();
    done({ handling: 'put off', until, word: '' });
  }
  function settle(event: SubmitEvent) {
    event.preventDefault();
    done({ handling: 'settled', word });
    word = '';
  }
</script>

<button
  class="act"
  onclick={() => (open = true)}
  aria-label="Handle: {attention.machine_tag}, {attention.cause}">Handle</button
>
<Modal bind:open title="{attention.machine_tag}: {attention.reason}">
  <p class="muted">{attention.evidence}.</p>
  <div class="mt-4 space-y-5">
    {#if attention.taken_by}
      <p>
        {attention.taken_by} looks after it.
        <button class="act" onclick={() => done({ handling: 'open', word: '' })}
          >Hand it back</button
        >
      </p>
    {:else}
      <p>
        <button class="act main" onclick={() => done({ handling: 'taken on', word: '' })}
          >Take it on</button
        >
      </p>
    {/if}
    <form class="flex flex-wrap items-end gap-2" onsubmit={putOff}>
      <label class="field">
        <span>Put it off for so many days; it comes back sooner if it gets worse</span>
        <input class="box w-24" type="number" min="1" max="365" bind:value={days} required />
      </label>
      <button class="act">Put off</button>
    </form>
    <form class="flex flex-wrap items-end gap-2" onsubmit={settle}>
      <label class="field grow">
        <span>How it was settled (goes into the machine’s record)</span>
        <input class="box w-full" bind:value={word} required maxlength="400" />
      </label>
      <button class="act">Settle</button>
    </form>
  </div>
</Modal>
