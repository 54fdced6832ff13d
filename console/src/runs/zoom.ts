import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { api, type Window } from '../api'
import type { Line } from '../parts/TraceChart.vue'
import { isDrawn, isPhase } from '../parts/format'
import { bands } from '../parts/curves'

// useZoom shows a part of a recorded run: it fetches the visible window at the resolution of the screen, down to
// single frames. Phases are drawn beside what they are part of where that is asked for.
export function useZoom(run: Ref<string>, phases?: Ref<boolean>) {
  const data = shallowRef<Window | null>(null)
  const whole = ref<[number, number]>([0, 1])
  const view = ref<[number, number] | undefined>(undefined)
  const error = ref<unknown>(null)
  let timer = 0
  let asked = 0

  async function fetchWindow() {
    const ticket = ++asked
    try {
      const [from, to] = view.value ?? [undefined, undefined]
      // A little more than is visible, so that panning shows curves at once.
      const spare = from !== undefined && to !== undefined ? (to - from) / 2 : 0
      const w = await api.window(run.value, {
        from: from === undefined ? undefined : Math.max(from - spare, 0),
        to: to === undefined ? undefined : to + spare,
        buckets: 1600,
      })
      if (ticket !== asked) return
      data.value = w
      whole.value = [w.from, Math.max(w.to, w.from + 1e-3)]
      error.value = null
    } catch (e) {
      error.value = e
    }
  }

  function show(from: number, to: number) {
    const [a, b] = whole.value
    view.value = to - from >= (b - a) * 0.999 ? undefined : [Math.max(from, a), Math.min(to, b)]
    clearTimeout(timer)
    timer = window.setTimeout(() => void fetchWindow(), 120)
  }

  const lines = computed<Line[]>(() =>
    (data.value?.traces ?? [])
      .filter((t) => isDrawn(t.name) || (phases?.value && isPhase(t.name)))
      .map((t) => ({ column: t.name, data: bands(data.value!.t, t.min, t.max) })),
  )
  watch(
    run,
    () => {
      view.value = undefined
      void fetchWindow()
    },
    { immediate: true },
  )
  return { lines, data, whole, view, error, show, refetch: fetchWindow }
}
