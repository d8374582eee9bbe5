<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import type { ComponentProps } from 'svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Modal from '$lib/components/Modal.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';
  import OverTheShop from '$lib/tuning/OverTheShop.svelte';
  import WriteAbout from '$lib/tuning/WriteAbout.svelte';
  import { ruleInWords } from '$lib/tuning/rule';
  import { count } from '$lib/words';

  type Known = Schema['KnownProgram'];
  type About = { program: ComponentProps<typeof WriteAbout>['program']; entry?: Known };
  const may = useMay();
  const doing = new Doing();
  const unknownAsked = createQuery(() => ask('/api/v2/unknown-programs'));
  const knownAsked = createQuery(() => ask('/api/v2/known-programs'));
  const rulesAsked = createQuery(() =>
    ask('/api/v2/program-rules/{scope}/{subject_id}', {
      params: { path: { scope: 'shop', subject_id: 0 } }
    })
  );
  const questionsAsked = createQuery(() => ask('/api/v2/questions'));
  const questions = $derived(new Map((questionsAsked.data ?? []).map((q) => [q.key, q.text])));

  const again = () =>
    refresh(
      '/api/v2/unknown-programs',
      '/api/v2/known-programs',
      '/api/v2/program-rules/{scope}/{subject_id}',
      '/api/v2/machines/{machine}/programs',
      '/api/v2/shared-changes/proposed'
    );

  function becomes({ edit }: Known): string {
    if (edit.handling === 'stays') return 'stays';
    if (!edit.depends_on) return `runs ${edit.intent}`;
    return `runs ${edit.intent} where the answer is ${edit.depends_on.on}: ${questions.get(edit.depends_on.question) ?? edit.depends_on.question}`;
  }
  function knownBy({ package: name, signed_by, path }: Schema['Recognition']): string {
    if (name) return `package ${name}`;
    return signed_by ? `signed by ${signed_by}, ${path}` : 'its very file';
  }

  let about = $state<About | null>(null);
  let open = $state(false);
  let striking = $state<Known | null>(null);
  let striking_open = $state(false);

  function write(of: About) {
    about = of;
    open = true;
  }
  async function strikeOut() {
    const number = striking?.id;
    if (number === undefined) return;
    const call = () =>
      api.DELETE('/api/v2/known-programs/{number}', { params: { path: { number } } });
    if (await doing.try(call)) striking_open = false;
    await again();
  }
  async function takeBack(rule: Schema['ScopedProgramRule']) {
    await doing.try(() =>
      api.POST('/api/v2/program-rules/{scope}/{subject_id}', {
        params: { path: { scope: 'shop', subject_id: 0 } },
        headers: { 'If-Match': `"${rule.version}"` },
        body: { program: rule.program, rule: {} }
      })
    );
    await again();
  }
</script>

<svelte:head><title>Programs – Phylax</title></svelte:head>

<h1>Programs</h1>
<p class="muted mt-1">
  The shop’s notebook of startup programs on machines. What nobody has written about stays as it is.
</p>
<Outcome of={doing} />

<OverTheShop />

<section class="mt-10" aria-labelledby="unknown">
  <h2 id="unknown">
    Nobody has written about yet
    {#if unknownAsked.data}<span class="muted">{unknownAsked.data.length}</span>{/if}
  </h2>
  {#if unknownAsked.data}
    <ul class="ruled mt-2" data-testid="unknown">
      {#each unknownAsked.data as program (program.key)}
        <li class="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 py-2.5">
          <span class="min-w-0 max-w-prose">
            <strong>{program.name}</strong>
            {program.description}
            <span class="muted block text-sm break-words">
              seen on {count(program.machines, 'machine')}, of {count(program.clients, 'client')}:
              {program.machine_tags.join(', ')}{program.machines > program.machine_tags.length
                ? ' and others'
                : ''}
              <span class="block break-all">{program.package || program.path}</span>
            </span>
          </span>
          {#if may.work}
            <button class="act noprint" onclick={() => write({ program })}
              >Add a note on {program.name}</button
            >
          {/if}
        </li>
      {:else}<li class="py-2">Every startup program is in our notes.</li>{/each}
    </ul>
  {:else}<Failed query={unknownAsked} />{/if}
</section>

<section class="mt-10" aria-labelledby="notebook">
  <h2 id="notebook">
    The <Term of="notebook" />
    {#if knownAsked.data}<span class="muted">{knownAsked.data.length}</span>{/if}
  </h2>
  {#if knownAsked.data}
    <ul class="ruled mt-2" data-testid="notebook">
      {#each knownAsked.data as entry (entry.id)}
        <li class="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 py-2.5">
          <span class="min-w-0 max-w-prose">
            <strong>{entry.edit.name}</strong>: {becomes(entry)}
            {#if entry.edit.description}<span class="block">{entry.edit.description}</span>{/if}
            <span class="muted block text-sm break-words">
              {knownBy(entry.edit.recognition)}; on {count(entry.machines, 'machine')};
              {entry.written_by}, <When at={entry.written_at} />
            </span>
          </span>
          {#if may.work}
            <span class="noprint flex flex-wrap gap-2">
              <button
                class="act"
                aria-label="Change the entry of {entry.edit.name}"
                onclick={() =>
                  write({
                    entry,
                    program: {
                      key: `entry:${entry.id}`,
                      name: entry.edit.name,
                      description: entry.edit.description,
                      ...entry.edit.recognition
                    }
                  })}>Change</button
              >
              <button
                class="act"
                aria-label="Strike out {entry.edit.name}"
                onclick={() => {
                  striking = entry;
                  striking_open = true;
                }}>Strike out</button
              >
            </span>
          {/if}
        </li>
      {:else}<li class="py-2">Nothing is written down yet.</li>{/each}
    </ul>
  {:else}<Failed query={knownAsked} />{/if}
</section>

<section class="mt-10" aria-labelledby="shop-rules">
  <h2 id="shop-rules">Rules of the whole shop</h2>
  <p class="muted text-sm">
    Rules of a client or a machine are made on the machine’s page, at the program.
  </p>
  {#if rulesAsked.data}
    <ul class="ruled mt-2" data-testid="program-rules">
      {#each rulesAsked.data as rule (rule.program)}
        <li class="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 py-2.5">
          <span class="min-w-0">
            <code class="break-all">{rule.program}</code>: {ruleInWords(rule.rule)}
            <span class="muted block text-sm">
              {rule.changed_by}, <When at={rule.changed_at} />
            </span>
          </span>
          {#if may.own}
            <button
              class="act noprint"
              disabled={doing.busy}
              aria-label="Take back the rule for {rule.program}"
              onclick={() => takeBack(rule)}>Take back</button
            >
          {/if}
        </li>
      {:else}<li class="py-2">None; the notebook decides.</li>{/each}
    </ul>
  {:else}<Failed query={rulesAsked} />{/if}
</section>

<Modal bind:open wide title="Add a note on {about?.program.name ?? ''}">
  {#if about}
    {#key about.program.key}
      <WriteAbout
        program={about.program}
        entry={about.entry}
        onwritten={() => {
          open = false;
          void again();
        }}
      />
    {/key}
  {/if}
</Modal>
<Modal bind:open={striking_open} title="Strike out {striking?.edit.name ?? ''}?">
  <p>
    It is unknown again: nothing of it changes any more. What was changed already stays as it is and
    can be put back.
  </p>
  <div class="mt-4 flex justify-end">
    <button class="act main" disabled={doing.busy} onclick={strikeOut}>Strike it out</button>
  </div>
</Modal>
