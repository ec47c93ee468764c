<script lang="ts">
  import type { MaintenanceWindow } from '../api/types'
  import { moment } from '../format/format'
  import { bars, midnights } from '../format/strip'

  // The windows of the next two weeks: a column a day, a line a window.
  let { windows, from }: { windows: MaintenanceWindow[]; from: string } = $props()

  const DAYS = 14
  const strip = $derived(midnights(from, DAYS))
  const now = $derived(((Date.parse(from) - (strip[0]?.getTime() ?? 0)) / (DAYS * 86_400_000)) * 100)
  const shown = $derived(windows.map((window) => ({ window, bars: bars(window, strip) })).filter((line) => line.bars.length > 0))
  const weekday = (day: Date) => day.toLocaleDateString('en-GB', { weekday: 'short' })
  const isFree = (day: Date) => day.getDay() === 0 || day.getDay() === 6
  const told = $derived(shown.map(({ window, bars }) => `${window.name}: ${bars.map((bar) => `${moment(bar.start)} to ${moment(bar.end)}`).join(', ')}`))
</script>

<div class="overflow-x-auto" data-testid="strip">
  <div
    class="relative min-w-160"
    role="img"
    aria-label={told.length > 0 ? `Windows of the next ${DAYS} days. ${told.join('. ')}` : `No window opens within ${DAYS} days`}
  >
    <div class="grid text-secondary" style={`grid-template-columns: 9rem repeat(${DAYS}, minmax(0, 1fr))`} aria-hidden="true">
      <span></span>
      {#each strip as day (day.getTime())}
        <span class={['border-l border-base-300 px-1 leading-tight', isFree(day) && 'bg-base-200']}
          >{weekday(day)}<br />{day.getDate()}.{day.getMonth() + 1}.</span
        >
      {/each}
    </div>
    {#each shown as { window, bars } (window.name)}
      <div class="flex border-t border-base-300" aria-hidden="true">
        <span class="w-36 shrink-0 truncate py-0.5 pr-2">{window.name}</span>
        <span class="relative grow">
          {#each strip as day, index (day.getTime())}
            <span
              class={['absolute inset-y-0 border-l border-base-300', isFree(day) && 'bg-base-200']}
              style={`left: ${(index / DAYS) * 100}%; width: ${100 / DAYS}%`}
            ></span>
          {/each}
          {#each bars as bar (bar.start)}
            <span
              class={['absolute inset-y-1 min-w-1.5 rounded-sm', window.state === 'open' && bar === bars[0] ? 'bg-warning' : 'bg-primary']}
              style={`left: ${bar.left}%; width: ${bar.width}%`}
              title={`${moment(bar.start)} to ${moment(bar.end)}`}
            ></span>
          {/each}
          <span class="absolute inset-y-0 w-px bg-error" style={`left: ${now}%`}></span>
        </span>
      </div>
    {:else}
      <p class="py-2 text-center text-secondary" aria-hidden="true">No window opens within {DAYS} days.</p>
    {/each}
  </div>
</div>
