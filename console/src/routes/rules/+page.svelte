<script lang="ts">
  import { api, inWords, type Schema } from '$lib/api/client';
  import { daysOf } from '$lib/words';

  type ShopRule = Schema['ShopRule'];
  let rules = $state<ShopRule[] | null>(null);
  let isOwner = $state(false);
  let problem = $state('');
  let saved = $state('');

  async function load() {
    const { data, error } = await api.GET('/api/v1/rules');
    if (data) rules = data;
    else problem = inWords(error);
  }
  $effect(() => {
    void load();
    void api.GET('/api/v1/me').then(({ data }) => (isOwner = data?.role === 'owner'));
  });

  async function save(rule: ShopRule, off: boolean, days: number) {
    const { error } = await api.PUT('/api/v1/rules/{scope}/{subject_id}/{category}', {
      params: { path: { scope: 'shop', subject_id: 0, category: rule.category } },
      headers: rule.shop ? { 'If-Match': `"${rule.shop.version}"` } : {},
      body: { off, keep_for: `P${Math.max(0, Math.round(days))}D` }
    });
    problem = error ? inWords(error) : '';
    saved = error ? '' : rule.category;
    await load();
  }
</script>

<svelte:head><title>Rules – Phylax</title></svelte:head>

<h1>Rules</h1>
<p class="muted mt-1">
  What the shop keeps of each category. A client or a machine may differ; the nearest rule wins.
</p>
{#if problem}<p class="lossy mt-4" role="alert">{problem}</p>{/if}
{#if rules}
  <table class="sheet mt-4">
    <thead>
      <tr><th>category</th><th>rule</th><th>from</th><th class="right">differ</th><td></td></tr>
    </thead>
    <tbody>
      {#each rules as rule (rule.category + (rule.shop?.version ?? 0))}
        {@const days = daysOf(rule.in_force.keep_for)}
        <tr>
          <td>{rule.name}</td>
          <td>{rule.in_words}</td>
          <td>{rule.in_force.off ? rule.in_force.off_from : rule.in_force.keep_for_from}</td>
          <td class="right">{rule.overrides}</td>
          <td>
            {#if isOwner}
              <form
                class="flex flex-wrap items-center gap-2"
                onsubmit={(event) => {
                  event.preventDefault();
                  const form = new FormData(event.currentTarget);
                  void save(rule, form.has('off'), Number(form.get('days')));
                }}
              >
                <label class="flex items-center gap-1.5">
                  keep
                  <input
                    class="box w-20"
                    type="number"
                    min="0"
                    max="3650"
                    name="days"
                    value={days}
                  />
                  days
                </label>
                <label class="flex items-center gap-1.5">
                  <input type="checkbox" name="off" checked={rule.in_force.off} /> off
                </label>
                <button class="act">Save</button>
                {#if saved === rule.category}<span role="status">saved</span>{/if}
              </form>
            {/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
