<script lang="ts">
  import { Combobox, useListCollection } from '@skeletonlabs/skeleton-svelte';
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { goto } from '$app/navigation';
  import type { Schema } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import { useMe } from '$lib/session';
  import { KINDS } from '$lib/search/kinds';
  import { Still } from '$lib/still.svelte';
  import { onMount } from 'svelte';

  interface Props {
    /** What was typed before this was loaded. */
    typed?: string;
    /** Whether the field it takes the place of has the focus. */
    focused?: boolean;
  }
  let { typed = '', focused = false }: Props = $props();

  interface Entry {
    href: string;
    label: string;
    note: string;
    group: string;
  }
  const PAGES: [string, string][] = [
    ['/', 'Today'],
    ['/machines', 'Machines'],
    ['/clients', 'Clients'],
    ['/visits', 'Visits'],
    ['/rounds', 'Rounds'],
    ['/rounds?show=missed', 'Missed runs'],
    ['/rounds?show=yes', 'Listings that need approval'],
    ['/rules', 'Rules'],
    ['/records', 'Records'],
    ['/search', 'Search'],
    ['/reports', 'Reports for clients'],
    ['/shop/letterhead', 'Letterhead'],
    ['/routines', 'Routines'],
    ['/trends', 'Trends over the shop'],
    ['/shop', 'Shop'],
    ['/shop/people', 'People'],
    ['/shop/access', 'Access tokens'],
    ['/shop/days', 'Closing days'],
    ['/shop/calendars', 'Calendar addresses'],
    ['/shop/notices', 'Notices']
  ];
  const ACTIONS: [string, string][] = [
    ['/visits/new', 'Check in a machine'],
    ['/machines/new', 'Add a machine'],
    ['/rounds/new', 'Make a round'],
    ['/machines?tight=yes', 'Show machines that are nearly full'],
    ['/machines?noround=yes', 'Show machines without a round']
  ];
  const MOST = 6;
  const NAMED = 'Named so';

  const me = useMe();
  let value = $state('');
  let open = $state(false);
  let input = $state<HTMLInputElement | null>(null);
  let rested = $state('');
  $effect(() => {
    const now = value.trim();
    const timer = setTimeout(() => (rested = now), 120);
    return () => clearTimeout(timer);
  });
  const asks = $derived(rested.length > 1);
  const hitsAsked = createQuery(() => ({
    ...ask('/api/v2/search', { params: { query: { words: rested, limit: MOST } } }),
    placeholderData: keepPreviousData,
    enabled: asks
  }));

  const fits = (label: string) =>
    value
      .trim()
      .toLowerCase()
      .split(/\s+/)
      .every((word) => label.toLowerCase().includes(word));
  // as JSON, though the address also answers with CSV and JSON Lines
  const groupsOfHits = $derived(
    asks ? ((hitsAsked.data as Schema['Results'] | undefined)?.groups ?? []) : []
  );
  const shorter = (text: string) => (text.length > 48 ? `${text.slice(0, 47)}…` : text);
  const known = $derived.by<Entry[]>(() => {
    const text = value.trim();
    const query = encodeURIComponent(text);
    const lists: Entry[] = text
      ? [
          {
            href: `/search?words=${query}`,
            label: `Everything with “${text}”`,
            note: '',
            group: 'Lists'
          },
          {
            href: `/machines?words=${query}`,
            label: `Machines with “${text}”`,
            note: '',
            group: 'Lists'
          }
        ]
      : [];
    const named = groupsOfHits
      .flatMap((group) => group.hits)
      .filter(
        (hit) =>
          (hit.kind === 'machine' || hit.kind === 'client') &&
          hit.title.toLowerCase() === text.toLowerCase()
      )
      .map((hit) => ({
        href: hit.page,
        label: hit.title,
        note: KINDS[hit.kind],
        group: NAMED
      }));
    return [
      ...named,
      ...lists,
      ...groupsOfHits.flatMap((group) =>
        group.hits.map((hit) => ({
          href: hit.page,
          label: shorter(hit.kind === 'entry' || hit.kind === 'advice' ? hit.line : hit.title),
          note:
            hit.machine_tag && hit.machine_tag !== hit.title ? hit.machine_tag : hit.client_name,
          group: KINDS[group.kind]
        }))
      ),
      ...PAGES.filter(([, label]) => fits(label)).map(([href, label]) => ({
        href,
        label,
        note: '',
        group: 'Pages'
      })),
      ...ACTIONS.filter(([, label]) => fits(label))
        .filter(([href]) => href !== '/rounds/new' || me.data?.role !== 'desk')
        .map(([href, label]) => ({ href, label, note: '', group: 'Actions' }))
    ];
  });
  // what the service finds comes above pages and actions: not under a pointer that is about to press
  const list = new Still(
    () => known,
    () => value
  );
  const entries = $derived(list.shown);
  const groups = $derived([...new Set(entries.map((entry) => entry.group))]);
  const keyOf = (entry: Entry) => `${entry.group} ${entry.href} ${entry.label}`;
  const collection = $derived(
    useListCollection<Entry>({
      items: entries,
      itemToString: (entry) => entry.label,
      itemToValue: keyOf
    })
  );

  let highlighted = $state<string | null>(null);
  /** Whether somebody went through the list; what was typed whole counts until then. */
  let moved = $state(false);
  /** What Enter takes: the one marked, else the first. */
  const marked = $derived.by(() => {
    const first = entries[0];
    if (first?.group === NAMED && !moved) return keyOf(first);
    if (entries.some((entry) => keyOf(entry) === highlighted)) return highlighted;
    return value.trim() && first ? keyOf(first) : null;
  });
  function take(entry: Entry | undefined) {
    if (!entry) return;
    value = '';
    open = false;
    input?.blur();
    void goto(entry.href);
  }
  onMount(() => {
    value = typed;
    // somebody who went on to another field meanwhile stays there
    if (!focused) return;
    input?.focus();
    open = typed !== '';
  });
</script>

<Combobox
  class="palette"
  {collection}
  inputValue={value}
  value={[]}
  openOnClick
  positioning={{ strategy: 'fixed', placement: 'bottom-end', sameWidth: false }}
  {open}
  onOpenChange={(change) => (open = change.open)}
  inputBehavior="autohighlight"
  selectionBehavior="clear"
  allowCustomValue
  onInputValueChange={(change) => {
    if (change.reason !== 'input-change') return;
    value = change.inputValue;
    moved = false;
  }}
  highlightedValue={marked}
  onHighlightChange={(change) => (highlighted = change.highlightedValue)}
  onValueChange={(change) => take(change.items[0])}
>
  <Combobox.Label class="sr-only">Find a machine, client, entry, page or action</Combobox.Label>
  <Combobox.Control>
    <Combobox.Input>
      {#snippet element(attributes)}
        <input
          {...attributes}
          data-search
          class="box w-full"
          placeholder="Find anything ( / )"
          bind:this={input}
          onkeydowncapture={(event) => {
            if (event.key.startsWith('Arrow')) moved = true;
          }}
        />
      {/snippet}
    </Combobox.Input>
  </Combobox.Control>
  <Combobox.Positioner>
    <Combobox.Content
      class="max-h-[70vh] w-[min(30rem,92vw)] overflow-auto rounded-md border border-[var(--line)] bg-[var(--raised)] py-1 shadow-xl"
    >
      <div role="presentation" {@attach list.within}>
        {#each groups as group (group)}
          <Combobox.ItemGroup>
            <Combobox.ItemGroupLabel class="muted px-3 pt-2 text-sm"
              >{group}</Combobox.ItemGroupLabel
            >
            {#each entries.filter((entry) => entry.group === group) as entry (keyOf(entry))}
              <Combobox.Item item={entry} class="choice flex justify-between gap-4">
                <Combobox.ItemText>{entry.label}</Combobox.ItemText>
                <span class="muted text-sm">{entry.note}</span>
              </Combobox.Item>
            {/each}
          </Combobox.ItemGroup>
        {/each}
      </div>
    </Combobox.Content>
  </Combobox.Positioner>
</Combobox>
