<script lang="ts">
  import { page } from '$app/state';
</script>

<main class="mx-auto max-w-xl p-8">
  <h1>{page.status === 404 ? 'There is no such page' : 'Something went wrong'}</h1>
  <p class="mt-2"><a class="anchor" href="/">Go to Today</a></p>
</main>
