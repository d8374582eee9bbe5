<script lang="ts">
  import { Combobox, useListCollection } from '@skeletonlabs/skeleton-svelte';
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import ChevronDown from '@lucide/svelte/icons/chevron-down';

  interface Option {
    value: string;
    label: string;
  }
  interface Props {
    label: string;
    /** The option chosen: one of the first ones, or what `optionOf` makes of a client's number. */
    value: string;
    /** What can be chosen besides a client. */
    first?: Option[];
    optionOf?: (clientId: number) => string;
    required?: boolean;
  }
  let {
    label,
    value = $bindable(),
    first = [],
    optionOf = String,
    required = false
  }: Props = $props();

  const MOST = 20;
  let words = $state('');
  let open = $state(false);
  const asked = createQuery(() => ({
    ...ask('/api/v2/clients', { params: { query: { words: words.trim(), limit: MOST } } }),
    placeholderData: keepPreviousData
  }));
  const options = $derived<Option[]>([
    ...first.filter((option) => option.label.toLowerCase().includes(words.trim().toLowerCase())),
    ...(asked.data ?? []).map((client) => ({ value: optionOf(client.id), label: client.name }))
  ]);
  const collection = $derived(
    useListCollection<Option>({
      items: options,
      itemToString: (option) => option.label,
      itemToValue: (option) => option.value
    })
  );
  // named once it is chosen, whatever is looked for afterwards
  let chosenName = $state('');
  const isFirst = $derived(first.some((option) => option.value === value));
  const nameAsked = createQuery(() => ({
    ...ask('/api/v2/clients/{client_id}', {
      params: { path: { client_id: Number(/\d+$/.exec(value)?.[0] ?? 0) } }
    }),
    enabled: /\d$/.test(value) && !isFirst && !chosenName
  }));
  const shown = $derived(
    first.find((option) => option.value === value)?.label ??
      (value ? chosenName || (nameAsked.data?.name ?? '') : '')
  );
  let typed = $state<string | null>(null);
</script>

<Combobox
  class="field"
  {collection}
  {required}
  {open}
  inputValue={typed ?? shown}
  value={[value]}
  openOnClick
  positioning={{ strategy: 'fixed', placement: 'bottom-start' }}
  allowCustomValue={false}
  inputBehavior="autohighlight"
  onOpenChange={(change) => {
    open = change.open;
    if (!change.open) {
      words = '';
      typed = null;
    }
  }}
  onInputValueChange={(change) => {
    if (change.reason === 'input-change') {
      typed = change.inputValue;
      words = change.inputValue;
    }
  }}
  onValueChange={(change) => {
    const option = change.items[0];
    if (!option) return;
    chosenName = option.label;
    value = option.value;
    typed = null;
    words = '';
  }}
>
  <Combobox.Label>{label}</Combobox.Label>
  <Combobox.Control class="relative">
    <Combobox.Input class="box pr-8" placeholder="Name of a client" />
    <Combobox.Trigger aria-label="Show the choices">
      <ChevronDown size={16} aria-hidden="true" />
    </Combobox.Trigger>
  </Combobox.Control>
  <Combobox.Positioner>
    <Combobox.Content
      class="max-h-72 min-w-56 overflow-auto rounded-md border border-[var(--line)] bg-[var(--raised)] py-1 shadow-xl"
    >
      {#each options as option (option.value)}
        <Combobox.Item item={option} class="choice">
          <Combobox.ItemText>{option.label}</Combobox.ItemText>
        </Combobox.Item>
      {:else}
        <li class="muted px-3 py-1">No client with these words.</li>
      {/each}
      {#if (asked.data?.length ?? 0) === MOST}
        <li class="muted px-3 py-1 text-sm">Type more to find others.</li>
      {/if}
    </Combobox.Content>
  </Combobox.Positioner>
</Combobox>
