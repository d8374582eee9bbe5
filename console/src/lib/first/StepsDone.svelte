<script lang="ts">
  import Circle from '@lucide/svelte/icons/circle';
  import CircleCheck from '@lucide/svelte/icons/circle-check';
  import type { FirstStep } from './steps';

  interface Props {
    id: string;
    title: string;
    steps: FirstStep[];
    onclose?: () => void;
  }
  let { id, title, steps, onclose }: Props = $props();
  const next = $derived(steps.findIndex((step) => !step.done));
  const done = $derived(steps.filter((step) => step.done).length);
</script>

<section aria-labelledby={id} class="steps" data-testid={id}>
  <div class="flex flex-wrap items-baseline justify-between gap-x-4">
    <h2 {id}>{title}</h2>
    <span class="muted text-sm">{done} of {steps.length} done</span>
  </div>
  <ol class="mt-2 grid gap-x-8 gap-y-2 md:grid-cols-2">
    {#each steps as step, n (step.name)}
      <li class="flex gap-3" aria-current={n === next ? 'step' : undefined}>
        {#if step.done}
          <CircleCheck size={20} class="mt-0.5 shrink-0 text-[var(--main)]" aria-label="done" />
        {:else}
          <Circle size={20} class="mt-0.5 shrink-0 text-[var(--muted)]" aria-label="to do" />
        {/if}
        <span>
          {#if step.href}
            <a
              class="anchor"
              class:font-semibold={n === next}
              href={step.href}
              onclick={() => step.opened?.()}>{step.name}</a
            >
          {:else}<span>{step.name}</span>{/if}
          <span class="muted block text-sm">{step.how}</span>
        </span>
      </li>
    {/each}
  </ol>
  {#if onclose}
    <p class="mt-3">
      <button class="plain" onclick={onclose}>
        {done === steps.length ? 'Put this away' : 'Not now, and not again'}
      </button>
    </p>
  {/if}
</section>

<style>
  .steps {
    border: 1px solid var(--line);
    border-left: 3px solid var(--main);
    border-radius: 6px;
    padding: 1rem 1.25rem;
    background: var(--raised);
  }
</style>
