<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords } from '$lib/api/client';

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
      .POST('/api/v1/sign-in', { body: { login: login.trim(), password, code } })
      .catch((thrown: unknown) => ({ error: thrown }));
    trying = false;
    if (error) {
      const asksForCode = (error as { type?: string }).type?.endsWith('code-needed') ?? false;
      problem = asksForCode && !needsCode ? '' : inWords(error);
      needsCode ||= asksForCode;
      code = '';
      return;
    }
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
  </form>
</main>
