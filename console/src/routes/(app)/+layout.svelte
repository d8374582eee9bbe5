<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { QueryClientProvider, createQuery } from '@tanstack/svelte-query';
  import { api } from '$lib/api/client';
  import { ask, queries } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import UndoOffer from '$lib/components/UndoOffer.svelte';
  import Later from '$lib/components/Later.svelte';
  import { live } from '$lib/api/live.svelte';
  import type PaletteType from '$lib/components/Palette.svelte';
  import { forgetDrafts, keepDraftsOf } from '$lib/drafts.svelte';
  import { applyLamp } from '$lib/lamp';
  import { setZone } from '$lib/words';
  import ChartLine from '@lucide/svelte/icons/chart-line';
  import BookOpenText from '@lucide/svelte/icons/book-open-text';
  import ClipboardList from '@lucide/svelte/icons/clipboard-list';
  import Lamp from '@lucide/svelte/icons/lamp';
  import Laptop from '@lucide/svelte/icons/laptop-minimal';
  import LogOut from '@lucide/svelte/icons/log-out';
  import Repeat from '@lucide/svelte/icons/repeat';
  import Scale from '@lucide/svelte/icons/scale';
  import Search from '@lucide/svelte/icons/search';
  import Store from '@lucide/svelte/icons/store';
  import Sunrise from '@lucide/svelte/icons/sunrise';
  import Unplug from '@lucide/svelte/icons/unplug';
  import { onDestroy, type Snippet } from 'svelte';

  let { children }: { children: Snippet } = $props();
  const meAsked = createQuery(
    () => ask('/api/v2/me'),
    () => queries
  );
  const shopAsked = createQuery(
    () => ask('/api/v2/shop'),
    () => queries
  );
  const me = $derived(meAsked.data ?? null);
  const shop = $derived(shopAsked.data ?? null);
  let keysShown = $state(false);
  let words = $state('');
  let searchFocused = $state(false);
  // the rest of the search is fetched when it is used; what is typed meanwhile is kept
  let Palette = $state<typeof PaletteType>();
  async function loadPalette() {
    const loaded = (await import('$lib/components/Palette.svelte')).default;
    searchFocused = document.activeElement?.matches('[data-search]') ?? false;
    Palette ??= loaded;
  }
  let lamp = $state(localStorage.getItem('phylax-lamp') ?? 'system');

  /** On a phone the rail has room for seven; the wide ones are reached from *Today* there. */
  const PLACES: {
    href: string;
    name: string;
    key: string;
    icon: typeof Sunrise;
    wide?: boolean;
  }[] = [
    { href: '/', name: 'Today', key: 't', icon: Sunrise },
    { href: '/machines', name: 'Machines', key: 'm', icon: Laptop },
    { href: '/visits', name: 'Visits', key: 'v', icon: ClipboardList },
    { href: '/rounds', name: 'Rounds', key: 'r', icon: Repeat },
    { href: '/trends', name: 'Trends', key: 'd', icon: ChartLine, wide: true },
    { href: '/rules', name: 'Rules', key: 'u', icon: Scale },
    { href: '/records', name: 'Records', key: 'e', icon: BookOpenText },
    { href: '/shop', name: 'Shop', key: 's', icon: Store }
  ];
  const LAMPS: Record<string, string> = { system: 'as the system', day: 'day', night: 'night' };

  $effect(() => {
    if (me && shop) {
      keepDraftsOf(me.login);
      live.start();
    }
  });
  // signed out, or sent to sign in
  onDestroy(() => {
    live.stop();
    queries.clear();
  });
  $effect.pre(() => {
    if (shop) setZone(shop.zone);
  });

  function isHere(href: string): boolean {
    return href === '/' ? page.url.pathname === '/' : page.url.pathname.startsWith(href);
  }

  function switchLamp() {
    const order = ['system', 'day', 'night'];
    lamp = order[(order.indexOf(lamp) + 1) % order.length] ?? 'system';
    localStorage.setItem('phylax-lamp', lamp);
    applyLamp(lamp);
  }
  async function signOut() {
    await api.POST('/api/v2/sign-out');
    forgetDrafts();
    await goto('/sign-in');
  }

  function onkeydown(event: KeyboardEvent) {
    const target = event.target as HTMLElement;
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || target.isContentEditable) return;
    if (event.key === '/') {
      event.preventDefault();
      document.querySelector<HTMLElement>('[data-search]')?.focus();
    } else if (event.key === '?') {
      keysShown = true;
    } else if (/^[1-9]$/.test(event.key)) {
      goToSection(Number(event.key));
    } else {
      const place = PLACES.find((p) => p.key === event.key);
      if (place) void goto(place.href);
    }
  }

  /** The headings of a page's sections are numbered as they come. */
  function goToSection(number: number) {
    const heading = document.querySelectorAll<HTMLElement>('#content h2')[number - 1];
    if (!heading) return;
    heading.tabIndex = -1;
    heading.focus();
    heading.scrollIntoView({ block: 'start' });
  }

  function search(event: SubmitEvent) {
    event.preventDefault();
    if (!Palette) void goto(`/search?words=${encodeURIComponent(words.trim())}&go=yes`);
  }
</script>

<svelte:window {onkeydown} />

<QueryClientProvider client={queries}>
  {#if me && shop}
    <a class="skip" href="#content">Skip to the content</a>
    <div class="house">
      <nav aria-label="Places" class="rail">
        <p class="brand">
          <img src="/mark.svg" alt="" width="28" height="28" /><span>Phylax</span>
        </p>
        {#each PLACES as place (place.href)}
          <a
            href={place.href}
            class:wide={place.wide}
            aria-current={isHere(place.href) ? 'page' : undefined}
          >
            <place.icon size={20} aria-hidden="true" /><span>{place.name}</span>
          </a>
        {/each}
        <span class="rest"></span>
        <button onclick={switchLamp} title="Light: {LAMPS[lamp]}">
          <Lamp size={20} aria-hidden="true" /><span>Light</span>
          <span class="sr-only">, now {LAMPS[lamp]}</span>
        </button>
        <button onclick={signOut} title="{me.name}, {me.role}">
          <LogOut size={20} aria-hidden="true" /><span>Sign out</span>
        </button>
      </nav>
      <div class="min-w-0">
        <header class="noprint flex items-center gap-4 border-b border-[var(--line)] px-6 py-2">
          <span class="muted hidden sm:inline">{shop?.name}</span>
          {#if shop?.is_demo}<span class="lookhere text-sm">demo</span>{/if}
          <form
            class="ml-auto flex w-72 min-w-0 items-center gap-2"
            role="search"
            onsubmit={search}
          >
            <Search size={16} aria-hidden="true" class="text-[var(--muted)]" />
            {#if Palette}
              <Palette typed={words} focused={searchFocused} />
            {:else}
              <input
                data-search
                class="box w-full min-w-0"
                aria-label="Find a machine, client, entry, page or action"
                placeholder="Find anything ( / )"
                autocomplete="off"
                bind:value={words}
                onfocus={loadPalette}
              />
            {/if}
          </form>
          <span class="muted hidden text-sm md:inline">{me.name}</span>
          <span class="flex sm:hidden">
            <button
              class="act"
              onclick={switchLamp}
              aria-label="Light"
              title="Light: {LAMPS[lamp]}"
            >
              <Lamp size={18} aria-hidden="true" />
            </button>
            <button class="act" onclick={signOut} aria-label="Sign out">
              <LogOut size={18} aria-hidden="true" />
            </button>
          </span>
        </header>
        {#if !live.connected}
          <p class="lookhere flex items-center gap-2 px-6 py-2" role="status">
            <Unplug size={16} aria-hidden="true" /> Connection lost: what you see may be out of date.
            It reconnects by itself.
          </p>
        {/if}
        <main
          id="content"
          tabindex="-1"
          class="mx-auto max-w-6xl px-6 py-6 2xl:max-w-[88rem] min-[112rem]:max-w-[108rem]"
        >
          <Later>{@render children()}</Later>
        </main>
      </div>
    </div>
    <UndoOffer />
    {#if keysShown}
      {#await import('$lib/components/Keys.svelte') then { default: Keys }}
        <Keys bind:open={keysShown} places={PLACES} />
      {/await}
    {/if}
  {:else}
    <div class="p-8"><Failed query={meAsked.error ? meAsked : shopAsked}>Loading…</Failed></div>
  {/if}
</QueryClientProvider>

<style>
  .skip {
    position: absolute;
    left: 0.5rem;
    top: -4rem;
    z-index: 50;
    padding: 0.5rem 1rem;
    background: var(--raised);
    border: 1px solid var(--line);
  }
  .skip:focus {
    top: 0.5rem;
  }
  .house {
    display: grid;
    grid-template-columns: 5.5rem minmax(0, 1fr);
    min-height: 100vh;
  }
  .rail {
    position: sticky;
    top: 0;
    height: 100vh;
    display: flex;
    flex-direction: column;
    gap: 0.25rem;
    padding: 0.75rem 0.5rem;
    border-right: 1px solid var(--line);
  }
  .brand {
    display: flex;
    flex-direction: column;
    align-items: center;
    gap: 0.25rem;
    font-weight: 600;
    font-size: 0.875rem;
    margin-bottom: 0.75rem;
  }
  .rail a,
  .rail button {
    display: flex;
    flex-direction: column;
    align-items: center;
    gap: 0.15rem;
    padding: 0.5rem 0.25rem;
    border-radius: 0.3rem;
    font-size: 0.8125rem;
    color: var(--muted);
    cursor: pointer;
  }
  .rail a:hover,
  .rail button:hover {
    color: inherit;
    background: var(--raised);
  }
  .rail a[aria-current='page'] {
    color: var(--main);
    background: var(--raised);
    font-weight: 600;
  }
  .rest {
    flex: 1;
  }
  @media (max-width: 640px) {
    .house {
      grid-template-columns: minmax(0, 1fr);
      padding-bottom: 4.5rem;
    }
    .rail {
      position: fixed;
      inset: auto 0 0 0;
      z-index: 30;
      height: auto;
      flex-direction: row;
      justify-content: space-around;
      border-right: 0;
      border-top: 1px solid var(--line);
      background: light-dark(#f7f4ee, #10191c);
      padding: 0.25rem;
    }
    .brand,
    .rest,
    .rail .wide,
    .rail button {
      display: none;
    }
  }
</style>
