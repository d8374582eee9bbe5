<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';
  import { count } from '$lib/words';
  import { sharedInWords } from './trial';
  import { staysInWords } from './whatIf';

  type Line = Schema['WhatIfLine'];
  type Shared = Schema['SharedChange'];
  const LEAST_HALVED = 6;
  const may = useMay();
  const doing = new Doing();
  const asking = new Doing();
  const proposedAsked = createQuery(() => ask('/api/v2/shared-changes/proposed'));
  const sharedAsked = createQuery(() =>
    ask('/api/v2/shared-changes', { params: { query: { limit: 20 } } })
  );
  const settingsAsked = createQuery(() => ask('/api/v2/settings'));
  let meant = $state<Line | null>(null);
  const setting = $derived(
    meant && !meant.program
      ? settingsAsked.data?.find(({ key }) => key === meant?.setting)
      : undefined
  );
  let open = $state(false);
  let halfFirst = $state(true);
  let word = $state('');
  const ids = $derived(meant?.changes_on ?? []);
  const isProgram = $derived(Boolean(meant?.program));
  const canHalve = $derived(isProgram && ids.length >= LEAST_HALVED);
  const again = () => refresh('/api/v2/shared-changes', '/api/v2/shared-changes/proposed');

  async function change() {
    const line = meant;
    if (!line || !line.becomes) return;
    const call = () =>
      api.POST('/api/v2/shared-changes', {
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: {
          setting: line.setting,
          program: line.program,
          intent: line.intent,
          value: line.value,
          machine_ids: [...ids],
          half_first: canHalve && halfFirst,
          comment: word.trim()
        }
      });
    if (await asking.try(call)) {
      open = false;
      word = '';
    }
    await again();
  }
  async function goOn({ id }: Shared) {
    const path = { number: id };
    await doing.try(() => api.POST('/api/v2/shared-changes/{number}/rest', { params: { path } }));
    await again();
  }
  async function putBack({ id }: Shared) {
    const path = { number: id };
    await doing.try(() =>
      api.POST('/api/v2/shared-changes/{number}/put-back', { params: { path } })
    );
    await again();
  }
  const standing = (shared: Shared) =>
    shared.machines.filter((machine) => machine.state === 'made').length;
  const left = (shared: Shared) =>
    shared.machines.filter((machine) => machine.run_id == null).length;
  const staysOn = (line: Line) => (staysInWords(line) ? `; ${staysInWords(line)}` : '');
</script>

<section class="mt-6" aria-labelledby="over-the-shop">
  <h2 id="over-the-shop">Over the whole shop</h2>
  <p class="muted text-sm">What the rules and the notebook would change, by program and setting.</p>
  {#if proposedAsked.data}
    <ul class="ruled mt-2" data-testid="proposed">
      {#each proposedAsked.data as line (`${line.setting} ${line.program} ${line.becomes}`)}
        <li class="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 py-2.5">
          <span class="min-w-0 max-w-prose">
            <strong>{line.name}</strong>: {line.becomes} on {count(
              line.changes_on?.length ?? 0,
              'machine'
            )}{line.needs_approval ? ', with a yes' : ''}{staysOn(line)}
            {#if line.program}<span class="muted block text-sm break-all">{line.program}</span>{/if}
          </span>
          {#if may.work && line.becomes}
            <button
              class="act noprint"
              aria-label="Change {line.name} on {count(line.changes_on?.length ?? 0, 'machine')}…"
              onclick={() => {
                meant = line;
                open = true;
              }}>Change…</button
            >
          {/if}
        </li>
      {:else}<li class="py-2">Everything is as the shop wants it.</li>{/each}
    </ul>
  {:else}<Failed query={proposedAsked} />{/if}

  {#if sharedAsked.data?.length}
    <h3 class="mt-6 font-semibold">Changed on many machines</h3>
    <Outcome of={doing} />
    <ul class="ruled mt-1" data-testid="shared">
      {#each sharedAsked.data as shared (shared.id)}
        <li class="py-2.5">
          <div class="flex flex-wrap items-center justify-between gap-x-6 gap-y-2">
            <span class="min-w-0 max-w-prose">
              <strong>{shared.name}</strong>: {shared.becomes}, in force on {standing(shared)} of
              {count(shared.machines.length, 'machine')}{left(shared)
                ? `; ${left(shared)} wait for their turn`
                : ''}
              <span class="muted block text-sm">
                {shared.who}, <When at={shared.at} />{shared.comment ? `: ${shared.comment}` : ''}
              </span>
              {#if shared.half_first}
                <span class="block" class:lookhere={shared.judged?.outcome === 'made it worse'}>
                  {sharedInWords(shared)}
                </span>
              {/if}
            </span>
            {#if may.work}
              <span class="noprint flex flex-wrap gap-2">
                {#if left(shared)}
                  <button
                    class="act"
                    disabled={doing.busy}
                    aria-label="Change the others too: {shared.name}"
                    onclick={() => goOn(shared)}>Change the others too</button
                  >
                {/if}
                {#if standing(shared)}
                  <button
                    class="act"
                    disabled={doing.busy}
                    aria-label="Put back on all: {shared.name}"
                    onclick={() => putBack(shared)}>Put back on all</button
                  >
                {/if}
              </span>
            {/if}
          </div>
          <details class="mt-1 text-sm">
            <summary class="muted">Machines</summary>
            <ul class="mt-1 columns-1 gap-6 sm:columns-2 lg:columns-3">
              {#each shared.machines as machine (machine.machine_id)}
                <li>
                  <a class="anchor" href="/machines/{machine.tag}">{machine.tag}</a>
                  <span class="muted">{machine.client_name}</span>:
                  {machine.state ?? (machine.run_id == null ? 'the other half' : 'ordered')}
                </li>
              {/each}
            </ul>
          </details>
        </li>
      {/each}
    </ul>
  {/if}
</section>

<Modal bind:open wide title="Change {meant?.name ?? ''} on {count(ids.length, 'machine')}?">
  <div class="space-y-4">
    <p>
      {#if isProgram}
        From the next start on it runs <strong>{meant?.becomes}</strong> there.
      {:else}
        It is set to <strong>{meant?.becomes}</strong> there. {setting?.notice} {setting?.cost}
      {/if}
      Each machine reads anew what it has, and leaves what is guarded. {setting &&
      setting.goes_back !== 'exact'
        ? `How well it goes back: ${setting.goes_back}.`
        : 'It can be put back exactly.'}
    </p>
    {#if canHalve}
      <label class="flex items-start gap-2">
        <input type="checkbox" class="mt-1" bind:checked={halfFirst} />
        <span>
          Half of them first
          <span class="muted block text-sm"
            >The others are what they are compared with: whether it helps shows after five starts.</span
          >
        </span>
      </label>
    {:else if isProgram}
      <p class="muted text-sm">
        Fewer than {LEAST_HALVED} machines cannot be compared; all of them are changed now.
      </p>
    {/if}
    <label class="field">
      <span>Why, or what the client said (for the record)</span>
      <input class="box" bind:value={word} maxlength="400" placeholder="agreed by mail" />
    </label>
    <Outcome of={asking} />
    <div class="flex justify-end gap-2">
      <button class="act" onclick={() => (open = false)}>Cancel</button>
      <button class="act main" disabled={asking.busy} onclick={change}>
        Change {count(canHalve && halfFirst ? Math.ceil(ids.length / 2) : ids.length, 'machine')} now
      </button>
    </div>
  </div>
</Modal>
