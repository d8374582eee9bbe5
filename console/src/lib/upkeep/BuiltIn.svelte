<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { size } from '$lib/words';

  let { machine }: { machine: Machine } = $props();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/inventories', { params: { path: { machine: machine.tag } } })
  );
  const hardware = $derived(asked.data?.find((one) => one.kind === 'hardware'));
  const drivers = $derived(asked.data?.find((one) => one.kind === 'drivers'));
</script>

{#if !asked.data}<Failed query={asked} />{:else if !hardware && !drivers}
  <p class="mt-2">Nobody has looked at what is built in yet: check it.</p>
{/if}
{#if hardware}
  <p class="mt-2">
    {hardware.memory
      ? `${size(hardware.memory)} of memory`
      : 'Memory not known'}{hardware.most_memory
      ? `; ${size(hardware.most_memory)} fit`
      : ''}{hardware.pressed
      ? `; ${Math.round(hardware.pressed)} % of the time somebody waited for memory`
      : ''}
  </p>
  <ul class="muted text-sm">
    {#each hardware.slots ?? [] as slot, n (n)}
      <li>
        {slot.place}: {slot.size
          ? [size(slot.size), slot.kind, slot.maker, slot.model].filter(Boolean).join(' ')
          : 'empty'}
      </li>
    {/each}
  </ul>
  {#if hardware.unread}<p class="muted text-sm">{hardware.unread}</p>{/if}
{/if}
{#if drivers?.drivers?.length}
  <details class="mt-2">
    <summary class="cursor-pointer">Devices and what drives them</summary>
    <ul class="ruled mt-1">
      {#each drivers.drivers as driver, n (n)}
        <li class="py-1.5">
          {driver.device}
          <span class="block text-sm" class:lookhere={!driver.driver} class:muted={driver.driver}>
            {driver.driver
              ? [driver.driver, driver.version, driver.date, driver.maker]
                  .filter(Boolean)
                  .join(', ')
              : 'nothing drives it'}
          </span>
        </li>
      {/each}
    </ul>
  </details>
{/if}
