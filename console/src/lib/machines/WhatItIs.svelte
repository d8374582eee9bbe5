<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { EditForm } from '$lib/api/editing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import EditActions from '$lib/components/EditActions.svelte';
  import When from '$lib/components/When.svelte';
  import { size } from '$lib/words';
  import { untrack } from 'svelte';
  import { machineEdit } from './edit';

  /** What people have written down of a machine, and beside it what its agent read. */
  let { machine }: { machine: Machine } = $props();
  const GIB = 1024 ** 3;
  const FACTS = [
    { name: 'make', label: 'Make' },
    { name: 'model', label: 'Model' },
    { name: 'serial', label: 'Serial number' },
    { name: 'memory', label: 'Memory, GiB' },
    { name: 'processor', label: 'Processor' },
    { name: 'system_version', label: 'Version of its system' }
  ] as const;
  const WORDS = [
    { name: 'used_for', label: 'What it is used for' },
    { name: 'used_by', label: 'Who uses it' },
    { name: 'location', label: 'Where it stands' },
    { name: 'note', label: 'Notes' }
  ] as const;

  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/facts', { params: { path: { machine: machine.tag } } })
  );
  const factOf = (name: string) => asked.data?.find((fact) => fact.name === name);
  const shown = (name: string, value: string) => (name === 'memory' ? size(Number(value)) : value);

  const fieldsOf = (of: Machine) => ({
    tag: of.tag,
    make: of.make ?? '',
    model: of.model ?? '',
    serial: of.serial ?? '',
    memory: of.memory ? String(of.memory / GIB) : '',
    processor: of.processor ?? '',
    system_version: of.system_version ?? '',
    year: of.year ? String(of.year) : '',
    used_for: of.used_for ?? '',
    used_by: of.used_by ?? '',
    location: of.location ?? '',
    note: of.note ?? ''
  });
  type Fields = ReturnType<typeof fieldsOf>;
  const bytes = (gib: string) => (gib ? Math.round(Number(gib) * GIB) : null);
  function edit({ memory, year, ...words }: Partial<Fields>): Partial<Schema['MachineEdit']> {
    return {
      ...words,
      // the same number of bytes as long as nobody types another
      ...(memory === undefined ? {} : { memory: bytes(memory) }),
      ...(year === undefined ? {} : { year: year ? Number(year) : null })
    };
  }
  const form = untrack(
    () =>
      new EditForm({
        key: `machine:${machine.id}`,
        live: () => machine,
        fieldsOf,
        put: (over, touched, headers) =>
          api.PUT('/api/v2/machines/{machine}', {
            params: { path: { machine: String(over.id) } },
            headers,
            body: { ...machineEdit(over), ...edit(touched) }
          })
      })
  );
  const f = form.fields;
  const refreshed = () => refresh('/api/v2/machines/{machine}', '/api/v2/machines/{machine}/facts');

  async function save(event: SubmitEvent) {
    event.preventDefault();
    await form.save();
    await refreshed();
  }
</script>

<form class="mt-2 grid max-w-4xl gap-4 sm:grid-cols-3" onsubmit={save}>
  {#each FACTS as { name, label } (name)}
    {@const fact = factOf(name)}
    <label class="field">
      <span>{label}</span>
      {#if name === 'memory'}
        <input class="box" type="number" min="0.25" max="8192" step="any" bind:value={f.memory} />
      {:else}<input class="box" bind:value={f[name]} maxlength="120" />{/if}
      {#if fact?.differs && fact.detected}
        <small class="lookhere">
          reads as {shown(name, fact.detected.value)}, <When at={fact.detected.at} />
        </small>
      {:else if fact?.detected}
        <small class="muted">{fact.detected.source}, <When at={fact.detected.at} /></small>
      {:else if fact?.stated}
        <small class="muted">
          {fact.stated.source || 'somebody'}, <When at={fact.stated.at} />
        </small>
      {/if}
    </label>
  {/each}
  <label class="field">
    <span>Bought in</span>
    <input class="box" type="number" min="1980" max="2100" bind:value={f.year} />
  </label>
  {#each WORDS as { name, label } (name)}
    <label class="field" class:sm:col-span-2={name === 'note'}>
      <span>{label}</span>
      {#if name === 'note'}
        <textarea class="box" rows="2" bind:value={f.note} maxlength="4000"></textarea>
      {:else}<input class="box" bind:value={f[name]} maxlength="400" />{/if}
    </label>
  {/each}
  <div class="sm:col-span-3">
    <EditActions {form} onsaved={refreshed}>
      <a class="anchor ml-auto" href="/machines/labels?of={machine.id}">Print its label</a>
    </EditActions>
  </div>
</form>
