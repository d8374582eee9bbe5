<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api, inWords, type Machine } from '$lib/api/client';

  interface Props {
    machine: Machine;
    /** Who may set it: for a machine or a client anyone who takes them in, for the shop its owner. */
    isOwner: boolean;
    onchanged: () => void;
  }
  let { machine, isOwner, onchanged }: Props = $props();
  const clientId = $derived(machine.client_id);
  const clientAsked = createQuery(() =>
    ask('/api/v1/clients/{client_id}', { params: { path: { client_id: clientId } } })
  );
  const shopAsked = createQuery(() => ask('/api/v1/shop'));
  const client = $derived(clientAsked.data ?? null);
  const shop = $derived(shopAsked.data ?? null);
  let whom = $state<'machine' | 'client' | 'shop'>('machine');
  let percent = $state<number | null>(null);
  let problem = $state('');

  const own = $derived(
    { machine: machine.threshold_percent, client: client?.threshold_percent }[whom as 'machine'] ??
      null
  );
  const whose = $derived(
    machine.threshold_percent
      ? `${machine.tag}'s own`
      : client?.threshold_percent
        ? `${client.name}'s`
        : "the shop's"
  );

  async function put(wanted: number | null) {
    if (!client || !shop) return;
    const { error } =
      whom === 'machine'
        ? await api.PUT('/api/v1/machines/{machine}', {
            params: { path: { machine: String(machine.id) } },
            headers: { 'If-Match': `"${machine.version}"` },
            body: {
              tag: machine.tag,
              client_id: machine.client_id,
              system: machine.system,
              make: machine.make,
              model: machine.model,
              serial: machine.serial,
              memory: machine.memory,
              note: machine.note,
              threshold_percent: wanted
            }
          })
        : whom === 'client'
          ? await api.PUT('/api/v1/clients/{client_id}', {
              params: { path: { client_id: client.id } },
              headers: { 'If-Match': `"${client.version}"` },
              body: {
                name: client.name,
                contact: client.contact,
                mail: client.mail,
                phone: client.phone,
                note: client.note,
                zone: client.zone,
                at_once: client.at_once,
                threshold_percent: wanted
              }
            })
          : await api.PUT('/api/v1/shop', {
              headers: { 'If-Match': `"${shop.version}"` },
              body: { name: shop.name, zone: shop.zone, threshold_percent: wanted ?? 90 }
            });
    problem = error ? inWords(error) : '';
    if (!error) percent = null;
    await refresh('/api/v1/clients/{client_id}', '/api/v1/shop');
    onchanged();
  }
  function save(event: SubmitEvent) {
    event.preventDefault();
    if (percent !== null) void put(percent);
  }
</script>

<details class="noprint mt-4" data-testid="threshold">
  <summary>
    Nearly full above {machine.limit_percent} % <span class="muted">{whose}; change</span>
  </summary>
  <form class="mt-2 flex flex-wrap items-end gap-3" onsubmit={save}>
    <label class="field"
      ><span>Percent used</span><input
        class="box w-24"
        type="number"
        min="50"
        max="99"
        placeholder={String(machine.limit_percent)}
        bind:value={percent}
        required
      /></label
    >
    <label class="field"
      ><span>Holds for</span>
      <select class="box" bind:value={whom}>
        <option value="machine">{machine.tag}</option>
        <option value="client">all of {machine.client_name}</option>
        {#if isOwner}<option value="shop">the whole shop</option>{/if}
      </select></label
    >
    <button class="act main">Set</button>
    {#if own !== null}
      <button class="act" type="button" onclick={() => put(null)}
        >Remove its own threshold of {own} %</button
      >
    {/if}
  </form>
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
</details>
