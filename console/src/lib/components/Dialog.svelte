<script lang="ts">
  import type { Snippet } from 'svelte'

  let { title, wide = false, onclose, children }: { title: string; wide?: boolean; onclose: () => void; children: Snippet } = $props()

  // The browser's own modal: it keeps the focus inside and closes on Escape. Afterwards the focus is where it was, or on the page when that
  // is gone.
  function open(dialog: HTMLDialogElement) {
    const before = document.activeElement
    dialog.showModal()
    return () => {
      const isThere = before instanceof HTMLElement && before.isConnected && before !== document.body
      ;(isThere ? before : document.getElementById('content'))?.focus()
    }
  }
</script>

<dialog
  {@attach open}
  {onclose}
  class={`m-auto max-w-[95vw] ${wide ? 'w-[64rem]' : 'w-[46rem]'} rounded-box border border-base-300 bg-base-100 p-4 text-base-content backdrop:bg-black/40`}
  aria-labelledby="dialog-title"
>
  <div class="mb-3 flex items-baseline justify-between">
    <h2 id="dialog-title" class="text-base font-semibold">{title}</h2>
    <form method="dialog"><button class="btn btn-ghost btn-xs" aria-label="Close">✕</button></form>
  </div>
  {@render children()}
</dialog>
