<script lang="ts">
  import { useCategoryNames } from '$lib/categories.svelte';
  import { api, inWords, type Schema } from '$lib/api/client';
  import { count } from '$lib/words';
  import Download from '@lucide/svelte/icons/download';

  interface Props {
    isOwner: boolean;
    onapplied: () => void;
  }
  let { isOwner, onapplied }: Props = $props();
  const nameOf = useCategoryNames();

  let text = $state('');
  let found = $state<Schema['Difference'][] | null>(null);
  let problem = $state('');
  let done = $state('');

  async function ask(dry_run: boolean) {
    const { data, error } = await api.POST('/api/v2/rules/document', { body: { text, dry_run } });
    problem = error ? inWords(error) : '';
    found = data && dry_run ? data.differences : null;
    done = data && !dry_run ? `${count(data.differences.length, 'change')} made.` : '';
    if (done) onapplied();
  }
  async function choose(event: Event & { currentTarget: HTMLInputElement }) {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    text = await file.text();
    await ask(true);
  }
</script>

<p class="mt-2 flex flex-wrap items-center gap-4">
  <a class="act" href="/api/v2/rules/document" download="phylax-rules.toml">
    <Download aria-hidden="true" />Save as TOML
  </a>
  {#if isOwner}
    <label class="flex min-w-0 flex-wrap items-center gap-2">
      Compare with a file
      <input class="max-w-full" type="file" accept=".toml" onchange={choose} />
    </label>
  {/if}
</p>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if done}<p class="mt-2" role="status">{done}</p>{/if}
{#if found}
  {#if found.length}
    <table class="sheet mt-3" data-testid="differences">
      <caption class="sr-only">Differences</caption>
      <thead>
        <tr
          ><th scope="col">what</th><th scope="col">for</th><th scope="col">category</th><th
            scope="col">now</th
          ><th scope="col">then</th></tr
        >
      </thead>
      <tbody>
        {#each found as one (one.what + one.scope + one.subject + one.category + one.after)}
          <tr>
            <td>{one.what}</td>
            <td>{one.subject || `the ${one.scope}`}</td>
            <td>{nameOf(one.category)}</td>
            <td>{one.before}</td>
            <td>{one.after}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    <button class="act main mt-3" onclick={() => ask(false)}>
      Make {count(found.length, 'change')}
    </button>
  {:else}<p class="mt-2">The file changes nothing.</p>{/if}
{/if}
