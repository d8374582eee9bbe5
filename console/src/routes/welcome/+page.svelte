<script lang="ts">
  import { goto } from '$app/navigation';
  import { api, inWords } from '$lib/api/client';

  let password = $state('');
  let again = $state('');
  let problem = $state('');
  let trying = $state(false);

  async function choose(event: SubmitEvent) {
    event.preventDefault();
    if (password !== again) {
      problem = 'The two are not the same.';
      return;
    }
    trying = true;
    // the secret stands after #, so that no server before this one ever reads it
    const { error } = await api
      .POST('/api/v2/welcome', { body: { secret: location.hash.slice(1), password } })
      .catch((thrown: unknown) => ({ error: thrown }));
    trying = false;
    problem = error ? inWords(error) : '';
    if (!error) await goto('/', { replaceState: true });
  }
</script>

<svelte:head><title>Choose a password – Phylax</title></svelte:head>

<main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center gap-6 p-6">
  <div class="flex items-center gap-3">
    <img src="/mark.svg" alt="" width="40" height="40" />
    <h1>Choose a password</h1>
  </div>
  <p class="muted">Some words that do not belong together are easy to keep and hard to guess.</p>
  <form class="space-y-4" onsubmit={choose}>
    <label class="field">
      <span>Password</span>
      <input
        class="box"
        type="password"
        bind:value={password}
        autocomplete="new-password"
        required
        minlength="10"
      />
    </label>
    <label class="field">
      <span>The same again</span>
      <input
        class="box"
        type="password"
        bind:value={again}
        autocomplete="new-password"
        required
        minlength="10"
      />
    </label>
    {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <button class="act main w-full justify-center" disabled={trying}>
      {trying ? 'One moment…' : 'Take it, and sign in'}
    </button>
  </form>
</main>
