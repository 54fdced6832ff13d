import { onUnmounted, ref, shallowRef, watch, type Ref } from 'vue'

import { api, type MarkEvent } from '../api'
import type { Line } from '../components/TraceChart.vue'
import { useLive } from './live'

const drawn = /\.(volts|amps|watts)$/
// Beyond this many frames the curve is fetched anew, reduced to what the screen shows.
const mostFrames = 6000

// useLiveCurves keeps the curves of a bay's live run: what was recorded before, then every new frame.
export function useLiveCurves(bay: string, run: Ref<string | undefined>) {
  const live = useLive()
  const lines = shallowRef<Line[]>([])
  const marks = ref<MarkEvent[]>([])
  const newest = ref(0)
  let fetching = false

  async function fetchAll() {
    const id = run.value
    if (!id || fetching) return
    fetching = true
    try {
      const w = await api.window(id, { buckets: 1200 })
      if (id !== run.value) return
      const after = w.t.at(-1) ?? 0
      const newer = new Map(lines.value.map((l) => [l.column, l.data.filter(([t]) => t > after)]))
      lines.value = w.traces.filter((t) => drawn.test(t.name)).map((t) => ({
        column: t.name,
        data: [...bands(w.t, t.min, t.max), ...(newer.get(t.name) ?? [])],
      }))
      newest.value = Math.max(newest.value, after)
    } catch {
      // The curves then begin with the next frames; the banner says if the service is gone.
    } finally {
      fetching = false
    }
  }

  watch(run, () => {
    lines.value = []
    marks.value = []
    newest.value = 0
    void fetchAll()
  }, { immediate: true })

  const unlisten = live.listen({
    frames(f) {
      if (f.bay !== bay || f.run !== run.value) return
      const before = new Map(lines.value.map((l) => [l.column, l.data]))
      lines.value = f.columns.flatMap((column, i) => {
        if (!drawn.test(column)) return []
        const old = before.get(column) ?? []
        const last = old.at(-1)?.[0] ?? -1
        const fresh = f.t.flatMap((t, k): [number, number | null][] => (t > last ? [[t, f.values[i]?.[k] ?? null]] : []))
        return [{ column, data: [...old, ...fresh] }]
      })
      newest.value = f.t.at(-1) ?? newest.value
      if ((lines.value[0]?.data.length ?? 0) > mostFrames) void fetchAll()
    },
    mark(m) {
      if (m.bay === bay && m.run === run.value) marks.value = [...marks.value, m]
    },
    gap: () => void fetchAll(),
  })
  onUnmounted(unlisten)
  return { lines, marks, newest }
}

// bands draws a reduced window: each bucket as its least and its largest value, so that no extreme is lost.
export function bands(t: number[], min: (number | null)[], max?: (number | null)[]): [number, number | null][] {
  if (!max) return t.map((x, k) => [x, min[k] ?? null])
  return t.flatMap((x, k): [number, number | null][] => {
    const low = min[k] ?? null
    const high = max[k] ?? null
    return low === high ? [[x, low]] : [[x, low], [x, high]]
  })
}
