<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { useMe } from '$lib/session';
  import { api, inWords, type Schema } from '$lib/api/client';
  import CalendarFeeds from '$lib/components/CalendarFeeds.svelte';
  import ClosingDates from '$lib/components/ClosingDates.svelte';
  import Notices from '$lib/components/Notices.svelte';
  import When from '$lib/components/When.svelte';
  import { count } from '$lib/words';

  const shopAsked = createQuery(() => ask('/api/v1/shop'));
  const peopleAsked = createQuery(() => ask('/api/v1/people'));
  const tokensAsked = createQuery(() => ask('/api/v1/tokens'));
  const auditAsked = createQuery(() => ask('/api/v1/audit', { params: { query: { limit: 30 } } }));
  const shop = $derived(shopAsked.data ?? null);
  const people = $derived(peopleAsked.data ?? []);
  const tokens = $derived(tokensAsked.data ?? []);
  const audit = $derived(auditAsked.data ?? []);
  let chain = $state<Schema['ChainCheck'] | null>(null);
  let secret = $state('');
  let tokenName = $state('');
  const meAsked = useMe();
  const me = $derived(meAsked.data ?? null);
  const role = $derived(me?.role ?? 'desk');
  let problem = $state('');

  const load = () => refresh('/api/v1/tokens', '/api/v1/audit');

  async function makeToken(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST('/api/v1/tokens', { body: { name: tokenName } });
    problem = error ? inWords(error) : '';
    secret = data?.token ?? '';
    tokenName = '';
    await load();
  }
  async function withdraw(id: number) {
    const { error } = await api.DELETE('/api/v1/tokens/{token_id}', {
      params: { path: { token_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
  async function verify() {
    const { data, error } = await api.GET('/api/v1/records/verification');
    chain = data ?? null;
    problem = error ? inWords(error) : '';
  }
</script>

<svelte:head><title>Shop – Phylax</title></svelte:head>

{#if shop}
  <h1>{shop.name}</h1>
  <p class="muted">
    {shop.zone} · a volume used more than {shop.threshold_percent} % is nearly full
  </p>
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
  <div class="mt-6 grid gap-10 lg:grid-cols-2">
    <section>
      <h2>People</h2>
      <ul class="ruled mt-2">
        {#each people as person (person.id)}
          <li class="flex justify-between py-2">
            <span>{person.name} <span class="muted">{person.login}</span></span>
            <span>{person.role}</span>
          </li>
        {/each}
      </ul>
    </section>
    <section>
      <h2>Access tokens for programs</h2>
      <ul class="ruled mt-2">
        {#each tokens.filter((t) => !t.withdrawn_at) as token (token.id)}
          <li class="flex items-center justify-between py-2">
            <span
              >{token.name}
              <span class="muted text-sm">{token.login}, made <When at={token.made_at} /></span
              ></span
            >
            <button class="act" onclick={() => withdraw(token.id)}>Withdraw</button>
          </li>
        {/each}
      </ul>
      <form class="mt-2 flex gap-2" onsubmit={makeToken}>
        <input
          class="box"
          bind:value={tokenName}
          required
          placeholder="What is it for?"
          aria-label="What the token is for"
        />
        <button class="act">Make a token</button>
      </form>
      {#if secret}
        <p class="mt-2">Shown only once: <code class="break-all">{secret}</code></p>
      {/if}
    </section>
    <ClosingDates mayChange={role !== 'desk'} />
    <CalendarFeeds {people} mayChange={role !== 'desk'} />
    {#if me}<Notices {me} />{/if}
    <section>
      <h2>Records</h2>
      <p class="mt-2">
        Each entry carries the digest of the one before.
        <button class="plain" onclick={verify}>Verify the chain</button>
      </p>
      {#if chain}
        <p role="status" class={chain.intact ? '' : 'lossy'}>
          {chain.intact
            ? `${count(chain.entries, 'entry')}, each fits the one before it.`
            : `Broken at entry ${chain.broken_at}: ${chain.why}.`}
        </p>
      {/if}
    </section>
    {#if audit.length}
      <section>
        <h2>What was changed</h2>
        <ul class="ruled mt-2">
          {#each audit as deed (deed.id)}
            <li class="py-1.5">
              {deed.deed}: {deed.subject}
              <span class="muted text-sm">{deed.who}, <When at={deed.at} /></span>
            </li>
          {/each}
        </ul>
      </section>
    {/if}
  </div>
{/if}
