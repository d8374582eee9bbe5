<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords } from '$lib/api/client';
  import { inDeviceWords, sign, whyNone } from '$lib/people/passkeys';

  let login = $state('');
  let password = $state('');
  let code = $state('');
  let needsCode = $state(false);
  let problem = $state('');
  let trying = $state(false);

  async function signIn(event: SubmitEvent) {
    event.preventDefault();
    trying = true;
    problem = '';
    const { error } = await api
      .POST('/api/v2/sign-in', { body: { login: login.trim(), password, code } })
      .catch((thrown: unknown) => ({ error: thrown }));
    trying = false;
    if (error) {
      const asksForCode = (error as { type?: string }).type?.endsWith('code-needed') ?? false;
      problem = asksForCode && !needsCode ? '' : inWords(error);
      needsCode ||= asksForCode;
      code = '';
      return;
    }
    await goOn();
  }

  const hasPasskeys = whyNone() === '';
  async function byPasskey() {
    trying = true;
    problem = '';
    const asked = await api.POST('/api/v2/passkey/question').catch(() => null);
    try {
      if (!asked?.data) throw asked?.error ?? new Error();
      const credential = await sign(asked.data.options);
      const { error } = await api.POST('/api/v2/passkey/sign-in', { body: { credential } });
      if (error) problem = inWords(error);
    } catch (thrown) {
      problem = asked?.data ? inDeviceWords(thrown) : inWords(asked?.error ?? thrown);
    }
    trying = false;
    if (!problem) await goOn();
  }

  async function goOn() {
    const to = page.url.searchParams.get('to') ?? '/';
    // only ever to a page of our own
    await goto(to.startsWith('/') && !to.startsWith('//') ? to : '/');
  }
</script>

<svelte:head><title>Sign in – Phylax</title></svelte:head>

<main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center gap-6 p-6">
  <div class="flex items-center gap-3">
    <img src="/mark.svg" alt="" width="40" height="40" />
    <h1>Phylax</h1>
  </div>
  <form class="space-y-4" onsubmit={signIn}>
    <label class="field">
      <span>Login</span>
      <input class="box" bind:value={login} autocomplete="username" required />
    </label>
    <label class="field">
      <span>Password</span>
      <input
        class="box"
        type="password"
        bind:value={password}
        autocomplete="current-password"
        required
      />
    </label>
    {#if needsCode}
      <label class="field">
        <span>Code of your app</span>
        <!-- svelte-ignore a11y_autofocus -->
        <input
          class="box"
          bind:value={code}
          inputmode="numeric"
          autocomplete="one-time-code"
          required
          maxlength="10"
          autofocus
        />
      </label>
    {/if}
    {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <button class="act main w-full justify-center" disabled={trying}>
      {trying ? 'Signing in…' : 'Sign in'}
    </button>
    {#if hasPasskeys}
      <button type="button" class="act w-full justify-center" disabled={trying} onclick={byPasskey}
        >Sign in with a passkey</button
      >
    {/if}
  </form>
</main>
