<script lang="ts">
  import { pageOf } from '../desk/place'

  // An object of the configuration, by its path, as a link to its page.
  let { path }: { path: string } = $props()

  const name = $derived(
    path
      .replace(/^(frontends|pools|checks|hosts|ranges|networks|addresses|announce|certificates|authorities|limits|rules|examples|notifications)\./, '')
      .replace(/\.(servers|lookups|taken)\./, '/'),
  )
</script>

<a class="link" href={pageOf(path)}>{name}</a>
