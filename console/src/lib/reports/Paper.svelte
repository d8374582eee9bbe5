<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Schema } from '$lib/api/client';
  import { ask } from '$lib/api/queries';

  /** A report as it is read: the same blocks as on the printed page. */
  let { document }: { document: Schema['Document'] } = $props();
  const headAsked = createQuery(() => ask('/api/v2/letterhead'));
  const shopAsked = createQuery(() => ask('/api/v2/shop'));
  const head = $derived((headAsked.data?.head || shopAsked.data?.name || '').split('\n'));
  const line = (points: Schema['Point'][]) =>
    points.map((p) => `${(p.across * 600).toFixed(1)},${((1 - p.up) * 100).toFixed(1)}`).join(' ');
</script>

<article class="paper" lang={document.language} data-testid="report">
  <header>
    <p>
      {#each head as part, n (n)}{#if n}<br />{/if}<span class:strong={n === 0}>{part}</span>{/each}
    </p>
    {#if headAsked.data?.mark}
      <img src="/api/v2/letterhead/mark?version={headAsked.data.version}" alt="" height="48" />
    {/if}
  </header>
  <p class="title" role="heading" aria-level="2">{document.title}</p>
  {#each document.lines as part, n (n)}<p class="faint">{part}</p>{/each}
  {#each document.blocks as block, n (n)}
    {#if block.kind === 'heading'}
      <p class={block.level === 2 ? 'part' : 'below'} role="heading" aria-level={block.level + 1}>
        {block.text}
      </p>
    {:else if block.kind === 'paragraph'}
      <p class:quoted={block.quoted} class="text">{block.text}</p>
    {:else if block.kind === 'list'}
      <ul>
        {#each block.lines as text, at (at)}<li>{text}</li>{/each}
      </ul>
    {:else if block.kind === 'table'}
      <div class="wide">
        <table>
          <thead>
            <tr>
              {#each block.columns as column, at (at)}
                <th scope="col" class:number={column.is_number}>{column.name}</th>
              {/each}
            </tr>
          </thead>
          <tbody>
            {#each block.rows as row, at (at)}
              <tr>
                {#each row as cell, where (where)}
                  <td class:number={block.columns[where]?.is_number}>{cell}</td>
                {/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <figure>
        <svg viewBox="-2 -2 640 104" role="img" aria-label={block.alt_text}>
          {#each [0, 25, 50, 75, 100] as at (at)}
            <line x1="0" x2="600" y1={at} y2={at} stroke="#d4d8dc" stroke-width="0.6" />
          {/each}
          <polyline points={line(block.points)} fill="none" stroke="#0b5c63" stroke-width="2" />
          <text x="606" y="6" font-size="10">100 %</text>
          <text x="606" y="100" font-size="10">0 %</text>
        </svg>
        <figcaption class="faint">{block.caption}</figcaption>
      </figure>
    {/if}
  {/each}
</article>

<style>
  .paper {
    background: white;
    color: #111;
    max-width: 190mm;
    padding: 10mm;
    overflow-wrap: anywhere;
    border: 1px solid var(--line);
  }
  header {
    display: flex;
    justify-content: space-between;
    gap: 4mm;
    padding-bottom: 4mm;
    border-bottom: 1px solid #b9bec4;
    margin-bottom: 5mm;
    font-size: 10pt;
  }
  header img {
    height: 16mm;
    width: auto;
    max-width: 60mm;
  }
  .strong {
    font-weight: 700;
  }
  .title {
    font-size: 19pt;
    font-weight: 700;
    line-height: 1.2;
    margin-bottom: 2mm;
  }
  .part {
    font-size: 13pt;
    font-weight: 700;
    margin-top: 6mm;
  }
  .below {
    font-weight: 700;
    margin-top: 4mm;
  }
  .text {
    margin-top: 2mm;
    white-space: pre-wrap;
  }
  .quoted {
    padding-left: 5mm;
    font-style: italic;
  }
  .faint {
    color: #55595e;
  }
  ul {
    list-style: disc;
    margin: 2mm 0 0 5mm;
    white-space: pre-wrap;
  }
  li + li {
    margin-top: 1mm;
  }
  .wide {
    overflow-x: auto;
  }
  table {
    width: 100%;
    margin-top: 2mm;
    font-size: 10pt;
  }
  th,
  td {
    text-align: left;
    vertical-align: top;
    padding: 1.2mm 2mm;
    border-bottom: 1px solid #d4d8dc;
  }
  th {
    border-bottom: 1.5px solid #111;
  }
  .number {
    text-align: right;
    white-space: nowrap;
  }
  figure {
    margin-top: 3mm;
  }
  @media print {
    .paper {
      border: none;
      padding: 0;
      max-width: none;
    }
  }
</style>
