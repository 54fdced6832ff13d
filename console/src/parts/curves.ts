import { onUnmounted, ref, shallowRef, watch, type Ref } from 'vue'

import { api, type Frames, type Mark } from '../api'
import type { Line } from './TraceChart.vue'
import { isDrawn } from './format'
import { useLive } from './live'

// Beyond this many frames the curve is fetched anew, reduced to what the screen shows.
const mostFrames = 3000
// Frames are taken into the lines at most this often, ms.
const take = 200

// useLiveCurves keeps the curves of a bay's live run: what was recorded before, then every new frame.
export function useLiveCurves(bay: string, run: Ref<string | undefined>) {
  const live = useLive()
  const lines = shallowRef<Line[]>([])
  const marks = ref<Mark[]>([])
  const newest = ref(0)
  let fetching = false
  let waiting: Frames[] = []
  let taking = 0
  let later = 0

  // The record becomes durable once a second, and new frames arrive from the moment the stream opened. What lies
  // between the two is on record a moment later, so a second fetch fills it.
  const flushed = 1300

  async function fetchAll(again = true) {
    const id = run.value
    if (!id || fetching) return
    fetching = true
    try {
      const [w, record] = await Promise.all([api.window(id, { buckets: 1200 }), api.run(id)])
      if (id !== run.value) return
      marks.value = record.marks
      const after = w.t.at(-1) ?? 0
      const newer = new Map(lines.value.map((l) => [l.column, l.data.filter(([t]) => t > after)]))
      lines.value = w.traces
        .filter((t) => isDrawn(t.name))
        .map((t) => ({
          column: t.name,
          data: [...bands(w.t, t.min, t.max), ...(newer.get(t.name) ?? [])],
        }))
      newest.value = Math.max(newest.value, after)
      clearTimeout(later)
      if (again && record.state === 'live') later = window.setTimeout(() => void fetchAll(false), flushed)
    } catch {
      // The curves then begin with the next frames; the banner says if the service is gone.
    } finally {
      fetching = false
    }
  }

  watch(
    run,
    () => {
      lines.value = []
      marks.value = []
      newest.value = 0
      void fetchAll()
    },
    { immediate: true },
  )

  const unlisten = live.listen({
    frames(f) {
      if (f.bay !== bay || f.run !== run.value) return
      waiting.push(f)
      taking ||= window.setTimeout(takeIn, take)
    },
    mark(m) {
      if (m.bay === bay && m.run === run.value) marks.value = [...marks.value, m]
    },
    run(r) {
      if (r.id === run.value && r.state !== 'live') void fetchAll(false)
    },
    gap: () => void fetchAll(),
  })

  // takeIn takes the frames that came since into the lines.
  function takeIn() {
    taking = 0
    const all = waiting.filter((f) => f.run === run.value)
    waiting = []
    const last = all.at(-1)
    if (!last) return
    const before = new Map(lines.value.map((l) => [l.column, l.data]))
    lines.value = last.columns.filter(isDrawn).map((column) => {
      const old = before.get(column) ?? []
      const after = old.at(-1)?.[0] ?? -1
      const fresh = all.flatMap((f) => {
        const values = f.values[f.columns.indexOf(column)]
        return f.t.map((t, k): [number, number | null] => [t, values?.[k] ?? null])
      })
      return { column, data: [...old, ...fresh.filter(([t]) => t > after)] }
    })
    newest.value = last.t.at(-1) ?? newest.value
    if ((lines.value[0]?.data.length ?? 0) > mostFrames) void fetchAll(false)
  }
  onUnmounted(unlisten)
  onUnmounted(() => {
    clearTimeout(later)
    clearTimeout(taking)
  })
  return { lines, marks, newest }
}

// bands draws a reduced window: each bucket as its least and its largest value, so that no extreme is lost.
export function bands(t: number[], min: (number | null)[], max?: (number | null)[]): [number, number | null][] {
  if (!max) return t.map((x, k) => [x, min[k] ?? null])
  return t.flatMap((x, k): [number, number | null][] => {
    const low = min[k] ?? null
    const high = max[k] ?? null
    return low === high
      ? [[x, low]]
      : [
          [x, low],
          [x, high],
        ]
  })
}
