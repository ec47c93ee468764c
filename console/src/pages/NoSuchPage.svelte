<script lang="ts">
  import { route } from '../router'
</script>

<section class="rounded-box bg-base-100 p-6" aria-label="No such page">
  <h1 class="text-lg font-semibold">No such page</h1>
  <p class="mt-2 break-all">There is nothing at {route.pathname}. <a class="link" href="/">Back to the overview</a></p>
</section>
