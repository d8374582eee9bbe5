<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Client, type Machine } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';

  /** A machine, or a client with all its machines, retires or returns; what that means is said. */
  type Props = { machine: Machine; client?: undefined } | { client: Client; machine?: undefined };
  let { machine, client }: Props = $props();
  const subject = $derived((machine ?? client)!);
  const name = $derived(machine?.tag ?? client?.name ?? '');
  let open = $state(false);
  let why = $state('');
  const doing = new Doing();
  const ofMachine = $derived({ params: { path: { machine: String(machine?.id ?? 0) } } });
  const ofClient = $derived({ params: { path: { client_id: client?.id ?? 0 } } });
  const machineAsked = createQuery(() => ({
    ...ask('/api/v2/machines/{machine}/retirement', ofMachine),
    enabled: open && machine !== undefined
  }));
  const clientAsked = createQuery(() => ({
    ...ask('/api/v2/clients/{client_id}/retirement', ofClient),
    enabled: open && client !== undefined
  }));
  const meaningAsked = $derived(machine ? machineAsked : clientAsked);
  const meaning = $derived(meaningAsked.data);

  async function go(event: SubmitEvent) {
    event.preventDefault();
    const headers = { 'If-Match': `"${subject.version}"` };
    const back = Boolean(subject.retired_at);
    const isDone = await doing.try<unknown>(() => {
      if (machine) {
        return back
          ? api.POST('/api/v2/machines/{machine}/return', { ...ofMachine, headers })
          : api.POST('/api/v2/machines/{machine}/retire', { ...ofMachine, headers, body: { why } });
      }
      return back
        ? api.POST('/api/v2/clients/{client_id}/return', { ...ofClient, headers })
        : api.POST('/api/v2/clients/{client_id}/retire', { ...ofClient, headers, body: { why } });
    });
    if (isDone) {
      open = false;
      why = '';
    }
    await refresh(
      '/api/v2/machines/{machine}',
      '/api/v2/machines/{machine}/retirement',
      '/api/v2/machines/{machine}/rounds',
      '/api/v2/machines/numbers',
      '/api/v2/clients/{client_id}',
      '/api/v2/clients/{client_id}/retirement'
    );
  }
</script>

{#if subject.retired_at}
  <div
    class="mt-2 flex flex-wrap items-center gap-3 rounded-md border border-[var(--line)] p-2"
    data-testid="retired"
  >
    <span>
      Retired <When at={subject.retired_at} />{subject.retired_why
        ? `: ${subject.retired_why}`
        : ''}. Nothing new begins{machine ? ' on it' : ''}; what was done stays.
    </span>
    <button class="act noprint" onclick={() => (open = true)}>Bring {name} back</button>
  </div>
{:else}
  <button class="act noprint" onclick={() => (open = true)}>Retire {name}</button>
{/if}
<Modal bind:open title={subject.retired_at ? `Bring ${name} back` : `Retire ${name}`}>
  {#if meaning}
    {#if client && meaning.machines.length}
      <p>
        With {meaning.machines.length === 1 ? 'its machine' : 'its machines'}
        {meaning.machines.join(', ')}.
      </p>
    {/if}
    <ul class="mt-2 list-disc space-y-1 pl-5">
      {#each meaning.in_words ?? [] as sentence (sentence)}<li>{sentence}</li>{/each}
    </ul>
    <form class="mt-4 flex flex-wrap items-end gap-3" onsubmit={go}>
      {#if !subject.retired_at}
        <label class="field grow">
          <span>Why (goes into the record)</span>
          <input class="box w-full" bind:value={why} maxlength="400" />
        </label>
      {/if}
      <button class="act main" disabled={doing.busy || (meaning.under_way ?? []).length > 0}>
        {subject.retired_at ? 'Bring back' : 'Retire'}
      </button>
    </form>
    <Outcome of={doing} />
  {:else}<Failed query={meaningAsked} />{/if}
</Modal>
