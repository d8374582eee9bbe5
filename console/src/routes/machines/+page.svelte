<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords, type Machine } from '$lib/api/client';
  import { live } from '$lib/api/live.svelte';
  import RoutineStart from '$lib/components/RoutineStart.svelte';
  import FreeLine from '$lib/components/FreeLine.svelte';
  import VolumeBar from '$lib/components/VolumeBar.svelte';
  import When from '$lib/components/When.svelte';
  import { count, day, share, size } from '$lib/words';
  import Plus from '@lucide/svelte/icons/plus';
  import { SvelteSet } from 'svelte/reactivity';

  const DAYS = 90;
  const SYSTEMS = ['windows', 'macos', 'linux'] as const;

  let machines = $state<Machine[] | null>(null);
  let lines = $state<Record<number, (number | null)[]>>({});
  let role = $state('desk');
  const chosen = new SvelteSet<number>();
  let problem = $state('');

  // the page's state is its address, so that it can be kept, shared and gone back to
  const words = $derived(page.url.searchParams.get('words') ?? '');
  const system = $derived(page.url.searchParams.get('system') ?? '');
  const tight = $derived(page.url.searchParams.has('tight'));
  const sort = $derived(page.url.searchParams.get('sort') ?? 'tightest');

  function go(change: Record<string, string | null>) {
    const next = new URLSearchParams(page.url.searchParams);
    for (const [name, value] of Object.entries(change)) {
      if (value === null || value === '') next.delete(name);
      else next.set(name, value);
    }
    void goto(`/machines?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }

  const used = (m: Machine) =>
    Math.max(0, ...m.volumes.map((v) => (v.capacity ? 1 - v.free / v.capacity : 0)));
  const tightest = (m: Machine) =>
    m.volumes.toSorted((a, b) => a.free / a.capacity - b.free / b.capacity)[0];

  /** When the first of its volumes is likely over its threshold; over already sorts first. */
  const isOver = (m: Machine) => 100 * used(m) > m.limit_percent;
  const crossing = (m: Machine) =>
    isOver(m)
      ? ''
      : (m.volumes
          .map((v) => v.crosses?.likely ?? '')
          .filter(Boolean)
          .toSorted()[0] ?? '9999');

  const ORDERS: Record<string, (a: Machine, b: Machine) => number> = {
    tag: (a, b) => a.tag.localeCompare(b.tag),
    client: (a, b) => a.client_name.localeCompare(b.client_name) || a.tag.localeCompare(b.tag),
    tightest: (a, b) => used(b) - used(a),
    crossing: (a, b) => crossing(a).localeCompare(crossing(b)) || used(b) - used(a),
    cleaned: (a, b) => (a.cleaned_at ?? '').localeCompare(b.cleaned_at ?? ''),
    seen: (a, b) => (a.seen_at ?? '').localeCompare(b.seen_at ?? '')
  };
  const shown = $derived(
    (machines ?? [])
      .filter((m) => !system || m.system === system)
      .filter((m) => !tight || isOver(m))
      .toSorted(ORDERS[sort] ?? ORDERS.tightest)
  );

  async function load(wanted: string) {
    const found: Machine[] = [];
    let after = 0;
    for (;;) {
      const { data, error, response } = await api.GET('/api/v1/machines', {
        params: { query: { words: wanted, after, limit: 500 } }
      });
      if (!data) {
        problem = inWords(error);
        return;
      }
      found.push(...data);
      if (!response.headers.has('Link')) break;
      after = data.at(-1)?.id ?? 0;
    }
    machines = found;
    await drawLines(found);
  }

  async function drawLines(found: Machine[]) {
    const drawn: Record<number, (number | null)[]> = {};
    for (let start = 0; start < found.length; start += 100) {
      const ids = found.slice(start, start + 100).map((m) => m.id);
      const { data } = await api.GET('/api/v1/machines/free-lines', {
        params: { query: { machine_id: ids, days: DAYS } }
      });
      for (const line of data ?? []) drawn[line.volume_id] = line.shares;
    }
    lines = drawn;
  }

  $effect(() => {
    const wanted = words;
    void load(wanted);
    return live.on(['machine', 'reading', 'run', 'attention'], () => void load(wanted), 2000);
  });
  $effect(() => {
    void api.GET('/api/v1/me').then(({ data }) => (role = data?.role ?? 'desk'));
  });
</script>

<svelte:head><title>Machines – Phylax</title></svelte:head>

{#snippet heading(key: string, name: string)}
  <button
    class="cursor-pointer hover:underline"
    aria-pressed={sort === key}
    onclick={() => go({ sort: key })}
  >
    {name}{sort === key ? ' ↓' : ''}
  </button>
{/snippet}

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Machines</h1>
  <a class="anchor ml-auto" href="/trends">Trends over the shop</a>
  <a class="act main" href="/machines/new"><Plus aria-hidden="true" />Add a machine</a>
</div>
<div class="mt-4 flex flex-wrap items-center gap-2">
  <label class="sr-only" for="filter">Filter by words</label>
  <input
    id="filter"
    class="box w-64"
    placeholder="Tag, client, make or model"
    value={words}
    oninput={(e) => go({ words: e.currentTarget.value })}
  />
  {#each SYSTEMS as name (name)}
    <button
      class="act"
      aria-pressed={system === name}
      class:main={system === name}
      onclick={() => go({ system: system === name ? null : name })}>{name}</button
    >
  {/each}
  <button
    class="act"
    aria-pressed={tight}
    class:main={tight}
    onclick={() => go({ tight: tight ? null : 'yes' })}>nearly full</button
  >
  <span class="muted ml-auto">{count(shown.length, 'machine')}</span>
</div>
{#if chosen.size && role !== 'desk'}
  <div class="mt-3 flex flex-wrap items-center gap-3" data-testid="chosen">
    <strong>{count(chosen.size, 'machine')} chosen</strong>
    <RoutineStart machineIds={[...chosen]} />
    <button class="act" onclick={() => shown.forEach((m) => chosen.add(m.id))}>All shown</button>
    <button class="act" onclick={() => chosen.clear()}>None</button>
  </div>
{/if}

{#if problem}
  <p class="lossy mt-6">{problem}</p>
{:else if machines === null}
  <p class="muted mt-6">Asking the service…</p>
{:else if !shown.length}
  <p class="mt-6">
    {machines.length || words
      ? 'No machine is like that. Try fewer words or chips.'
      : 'No machines yet. Take the first one in.'}
  </p>
{:else}
  <div class="mt-4 overflow-x-auto">
    <table class="sheet" data-testid="machines">
      <thead>
        <tr>
          <th>{@render heading('tag', 'machine')}</th>
          <th>{@render heading('client', 'client')}</th>
          <th>system</th>
          <th>{@render heading('tightest', 'tightest volume')}</th>
          <th>free, {DAYS} days</th>
          <th>{@render heading('crossing', 'over its threshold')}</th>
          <th>{@render heading('cleaned', 'last cleaned')}</th>
          <th>next round</th>
          <th>{@render heading('seen', 'last contact')}</th>
        </tr>
      </thead>
      <tbody>
        {#each shown as machine (machine.id)}
          {@const volume = tightest(machine)}
          {@const full = isOver(machine)}
          <tr>
            <td class="whitespace-nowrap">
              <input
                type="checkbox"
                aria-label="Choose {machine.tag}"
                checked={chosen.has(machine.id)}
                onchange={(e) =>
                  e.currentTarget.checked ? chosen.add(machine.id) : chosen.delete(machine.id)}
              />
              <a class="anchor font-semibold" href="/machines/{machine.tag}">{machine.tag}</a>
            </td>
            <td>{machine.client_name}</td>
            <td>{machine.system}</td>
            <td class="min-w-44">
              {#if volume}
                <VolumeBar {volume} threshold={machine.limit_percent} />
                <span class="text-sm" class:lookhere={full}>
                  <code>{volume.mount}</code>
                  {share(volume.capacity - volume.free, volume.capacity)} used, {size(volume.free)} free{full
                    ? ', nearly full'
                    : ''}
                </span>
              {:else}
                <span class="muted">not read yet</span>
              {/if}
            </td>
            <td>
              {#if volume && lines[volume.id]}
                <FreeLine shares={lines[volume.id] ?? []} days={DAYS} />
              {/if}
            </td>
            <td class="whitespace-nowrap">
              {#if full}over already{:else if volume?.crosses?.likely}<span
                  title="{volume.crosses.soonest
                    ? `soonest ${day(volume.crosses.soonest)}`
                    : ''}, {volume.crosses.latest
                    ? `latest ${day(volume.crosses.latest)}`
                    : 'perhaps never'}">{day(volume.crosses.likely)}</span
                >{:else if volume?.crosses?.soonest}<span class="muted"
                  >perhaps {day(volume.crosses.soonest)}</span
                >{:else}<span class="muted">–</span>{/if}
            </td>
            <td class="whitespace-nowrap"><When at={machine.cleaned_at} /></td>
            <td class="whitespace-nowrap"><When at={machine.next_round_at} /></td>
            <td class="whitespace-nowrap">
              {#if machine.enrolled}<When at={machine.seen_at} />{:else}<span class="muted"
                  >not enrolled</span
                >{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
