<script lang="ts">
  import type { Schema } from '$lib/api/client';
  import { FIELDS, type ListField } from './fields';

  /** What each column of the list holds; whoever knows better says so. */
  let {
    columns,
    choose
  }: {
    columns: readonly Schema['ColumnResult'][];
    choose: (column: number, field: ListField | null) => void;
  } = $props();
  const taken = $derived(new Set(columns.map((each) => each.field).filter(Boolean)));
</script>

<table class="sheet cards" data-testid="columns">
  <caption class="sr-only">Columns of the list</caption>
  <thead>
    <tr>
      <th scope="col">column</th><th scope="col">as in</th><th scope="col">holds</th>
    </tr>
  </thead>
  <tbody>
    {#each columns as column (column.column)}
      <tr>
        <td data-name="column">{column.heading || `column ${column.column}`}</td>
        <td data-name="as in" class="muted break-all">{column.example}</td>
        <td data-name="holds">
          <select
            class="box"
            aria-label="What {column.heading || `column ${column.column}`} holds"
            value={column.field ?? ''}
            onchange={(event) =>
              choose(column.column, (event.currentTarget.value || null) as ListField | null)}
          >
            <option value="">is not read</option>
            {#each FIELDS as { field, name } (field)}
              <option value={field} disabled={taken.has(field) && field !== column.field}
                >{name}</option
              >
            {/each}
          </select>
        </td>
      </tr>
    {/each}
  </tbody>
</table>
