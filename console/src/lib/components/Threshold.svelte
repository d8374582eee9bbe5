<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api, type Machine, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { changedMeanwhile, type Changed } from '$lib/conflict';
  import { clientEdit, machineEdit } from '$lib/machines/edit';
  import Conflict from './Conflict.svelte';
  import Outcome from './Outcome.svelte';

  interface Props {
    machine: Machine;
    /** Who may set it: for a machine or a client anyone who takes them in, for the shop its owner. */
    isOwner: boolean;
    onchanged: () => void;
  }
  let { machine, isOwner, onchanged }: Props = $props();
  const clientId = $derived(machine.client_id);
  const clientAsked = createQuery(() =>
    ask('/api/v2/clients/{client_id}', { params: { path: { client_id: clientId } } })
  );
  const shopAsked = createQuery(() => ask('/api/v2/shop'));
  const client = $derived(clientAsked.data ?? null);
  const shop = $derived(shopAsked.data ?? null);
  let whom = $state<'machine' | 'client' | 'shop'>('machine');
  let percent = $state<number | null>(null);
  const setting = new Doing();
  let conflict = $state<(Changed<Limited> & { kind: Kind; wanted: number | null }) | null>(null);

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

  type Limited = { version: number; threshold_percent?: number | null };
  type Kind = typeof whom;

  /** Set it over one version of whom it is for; what else is known of them goes back unchanged. */
  function call(kind: Kind, over: Limited, wanted: number | null) {
    const headers = { 'If-Match': `"${over.version}"` };
    if (kind === 'shop') {
      const { name, zone, security_days } = over as Schema['Shop'];
      return api.PUT('/api/v2/shop', {
        headers,
        body: { name, zone, security_days, threshold_percent: wanted ?? 90 }
      });
    }
    if (kind === 'client') {
      const current = over as Schema['Client'];
      return api.PUT('/api/v2/clients/{client_id}', {
        params: { path: { client_id: current.id } },
        headers,
        body: { ...clientEdit(current), threshold_percent: wanted }
      });
    }
    const current = over as Machine;
    return api.PUT('/api/v2/machines/{machine}', {
      params: { path: { machine: String(current.id) } },
      headers,
      body: { ...machineEdit(current), threshold_percent: wanted }
    });
  }

  /**
   * Somebody else's change of another field is no conflict: ours goes over it. Another threshold is
   * shown beside ours.
   */
  async function put(kind: Kind, from: Limited, wanted: number | null) {
    let over = from;
    const isDone = await setting.try<unknown>(async () => {
      for (;;) {
        const reply = await call(kind, over, wanted);
        const meanwhile = changedMeanwhile<Limited>(reply.error);
        const isOther =
          meanwhile !== null && meanwhile.current.threshold_percent !== from.threshold_percent;
        conflict = meanwhile && isOther ? { ...meanwhile, kind, wanted } : null;
        if (!meanwhile || isOther) return reply;
        over = meanwhile.current;
      }
    }, 'Set.');
    if (isDone) percent = null;
    await refresh('/api/v2/clients/{client_id}', '/api/v2/shop');
    onchanged();
  }
  const limitInWords = (limit: number | null | undefined) => ({
    'nearly full above': limit == null ? 'no own threshold' : `${limit} %`
  });
  function begin(wanted: number | null) {
    const of = { machine, client, shop }[whom];
    if (of) void put(whom, of, wanted);
  }
  function save(event: SubmitEvent) {
    event.preventDefault();
    if (percent !== null) begin(percent);
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
    <button class="act main" disabled={setting.busy}>Set</button>
    {#if own !== null}
      <button class="act" type="button" disabled={setting.busy} onclick={() => begin(null)}
        >Remove its own threshold of {own} %</button
      >
    {/if}
  </form>
  {#if conflict}
    {@const { kind, current, wanted } = conflict}
    <Conflict
      changed={conflict}
      ours={limitInWords(wanted)}
      theirs={limitInWords(current.threshold_percent)}
      onours={() => void put(kind, current, wanted)}
      ontheirs={() => {
        conflict = null;
        percent = null;
        setting.problem = '';
      }}
    />
  {:else}<Outcome of={setting} />{/if}
</details>
