import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'

import { api, message, type Plot } from '../api/client'

/** What is drawn: points, and from when to when; or, following, the last so many milliseconds. */
export interface PlotWindow {
  tags: string[]
  from?: number
  to?: number
  last?: number
}

/** What was recorded of points over a window, renewed while it follows. */
export function usePlot(wanted: Ref<PlotWindow>, pixels: Ref<number>) {
  const plot = shallowRef<Plot>()
  const problem = ref('')
  let timer: ReturnType<typeof setTimeout> | undefined
  let turn = 0
  let ended = false

  /** How often it is asked again while it follows: as often as a column moves on, and not more than once a second. */
  const every = computed(() => Math.max(1000, (wanted.value.last ?? 0) / Math.max(200, pixels.value)))

  async function load() {
    clearTimeout(timer)
    const mine = ++turn
    const { tags, from, to, last } = wanted.value
    if (tags.length === 0) {
      plot.value = undefined
    } else {
      const now = Date.now()
      try {
        const p = await api.plot({ tag: tags, from: new Date(last ? now - last : from!).toISOString(), to: new Date(last ? now : to!).toISOString(), pixels: Math.max(50, Math.min(5000, Math.round(pixels.value))) })
        if (mine !== turn) return
        plot.value = p
        problem.value = ''
      } catch (error) {
        if (mine !== turn) return
        problem.value = message(error)
      }
    }
    if (!ended && last) timer = setTimeout(load, every.value)
  }
  /** A window that is dragged changes often; it is asked when it stands for a moment. */
  let soon: ReturnType<typeof setTimeout> | undefined
  watch([wanted, pixels], () => {
    clearTimeout(soon)
    soon = setTimeout(load, 60)
  })
  void load()
  onScopeDispose(() => {
    ended = true
    turn++
    clearTimeout(timer)
    clearTimeout(soon)
  })
  return { plot, problem, load }
}
