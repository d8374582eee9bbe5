<script lang="ts">
  import { api, inWords, type Attention } from '$lib/api/client';
  import HandleIt from '$lib/components/HandleIt.svelte';
  import HasChanged from '$lib/components/HasChanged.svelte';
  import When from '$lib/components/When.svelte';
  import { Bit } from '$lib/later.svelte';
  import { Still } from '$lib/still.svelte';
  import { undo } from '$lib/undo.svelte';
  import { count } from '$lib/words';
  import CircleCheck from '@lucide/svelte/icons/circle-check';

  let { needs, onhandled }: { needs: Attention[]; onhandled: () => void } = $props();
  let problem = $state('');

  const STEPS: Record<Attention['next_step'], { name: string; part: string }> = {
    look: { name: 'Survey it', part: 'cleanup' },
    clean: { name: 'See what can go', part: 'cleanup' },
    decide: { name: 'Decide', part: 'cleanup' },
    'run again': { name: 'Run again', part: 'work' },
    'ask the client': { name: 'See the machine', part: 'trend' },
    'see the trend': { name: 'See the trend', part: 'trend' },
    'see what is held': { name: 'See what is held', part: 'held' },
    'see startup programs': { name: 'See startup programs', part: 'tuning' },
    'see the checks': { name: 'See the checks', part: 'checks' },
    'see the updates': { name: 'See the updates', part: 'updates' },
    'see the visit': { name: 'See the visits', part: '' }
  };

  const list = new Still(() => needs);

  /** Neighbours of one group: a machine, or one thing on many machines of a client. */
  const groups = $derived.by(() => {
    const found: { name: string; items: Attention[] }[] = [];
    for (const attention of list.shown) {
      const last = found.at(-1);
      if (last?.name === attention.group) last.items.push(attention);
      else found.push({ name: attention.group, items: [attention] });
    }
    return found;
  });
  const bit = new Bit(() => groups.length, 3);
  /** So many machines are shown at once where it is the same on many of a client. */
  const SITE_SHOWN = 3;
  const isSite = (name: string) => name.startsWith('client ');

  async function handle(attention: Attention, body: Parameters<typeof send>[1]) {
    const { data, error } = await send(attention, body);
    problem = error ? inWords(error) : '';
    onhandled();
    // what was settled is in the machine's record, where it stays
    if (!data || attention.handling !== 'open' || body.handling === 'settled') return;
    const done = body.handling === 'put off' ? 'is put off' : 'is yours';
    undo.offer(
      `${attention.machine_tag} ${done}: ${attention.reason}.`,
      () => send(data, { handling: 'open', comment: '' }),
      async () => onhandled()
    );
  }
  function send(
    attention: Attention,
    body: { handling: Attention['handling']; snooze_until?: string; comment: string }
  ) {
    return api.PUT('/api/v2/attention/{attention_id}', {
      params: { path: { attention_id: attention.id } },
      headers: { 'If-Match': `"${attention.version}"` },
      body
    });
  }
</script>

{#snippet item(attention: Attention, ofSite: boolean)}
  {@const step = STEPS[attention.next_step]}
  <div class="mt-1 grid items-start gap-x-4 gap-y-1 sm:grid-cols-[1fr_auto]">
    <div>
      <p>
        {#if ofSite}<a class="anchor" href="/machines/{attention.machine_tag}"
            >{attention.machine_tag}</a
          >:
        {/if}{attention.reason}
      </p>
      <p class="muted text-sm">
        {attention.evidence}. Since <When at={attention.since} />{#if attention.comes_and_goes}; it
          comes and goes{/if}{#if attention.taken_by};
          <strong>{attention.taken_by} looks after it</strong>{/if}
      </p>
    </div>
    <div class="flex flex-wrap gap-2 sm:justify-end">
      <a
        class="act"
        href={step.part ? `/machines/${attention.machine_tag}#${step.part}` : '/visits'}
        >{step.name}</a
      >
      <HandleIt {attention} onhandle={(body) => handle(attention, body)} />
    </div>
  </div>
{/snippet}

{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
<HasChanged {list} />
<ul class="ruled mt-2" data-testid="needs-you" {@attach list.within}>
  {#each groups.slice(0, bit.drawn) as group (group.name)}
    {@const first = group.items[0]!}
    <li class="py-3">
      {#if isSite(group.name)}
        <p>
          <strong>{first.client_name}</strong>
          <span class="muted">{count(group.items.length, 'machine')}</span>
        </p>
      {:else}
        <p>
          <a class="anchor font-semibold" href="/machines/{first.machine_tag}"
            >{first.machine_tag}</a
          >
          <span class="muted">{first.client_name}</span>
        </p>
      {/if}
      {#each isSite(group.name) ? group.items.slice(0, SITE_SHOWN) : group.items as attention (attention.id)}
        {@render item(attention, isSite(group.name))}
      {/each}
      {#if isSite(group.name) && group.items.length > SITE_SHOWN}
        <details class="mt-1">
          <summary>and {group.items.length - SITE_SHOWN} more</summary>
          {#each group.items.slice(SITE_SHOWN) as attention (attention.id)}{@render item(
              attention,
              true
            )}{/each}
        </details>
      {/if}
    </li>
  {:else}
    <li class="flex items-center gap-2 py-4">
      <CircleCheck size={18} aria-hidden="true" class="text-[var(--main)]" />
      Nothing needs attention. The next round is on the right.
    </li>
  {/each}
</ul>
