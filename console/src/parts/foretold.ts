import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { api, type RunRehearsal } from '../api'
import type { Line } from './TraceChart.vue'
import { isDrawn } from './format'

// useForetold fetches what the rehearsal of a run foretold, again whenever the key changes. A unit without a
// model has none.
export function useForetold(run: Ref<string | undefined>, again: Ref<unknown>) {
  const rehearsal = shallowRef<RunRehearsal | null>(null)
  const none = ref('')
  watch(
    [run, again],
    async ([id], [before]) => {
      if (id !== before) rehearsal.value = null
      if (!id) return
      try {
        const r = await api.runRehearsal(id)
        if (id === run.value) {
          rehearsal.value = r
          none.value = ''
        }
      } catch (e) {
        none.value = e instanceof Error ? e.message : ''
      }
    },
    { immediate: true },
  )
  const lines = computed<Line[]>(() => {
    const r = rehearsal.value
    if (!r) return []
    return r.columns.flatMap((c, i) =>
      isDrawn(c.name)
        ? [
            {
              column: c.name,
              foretold: true,
              data: straightened(r.t.map((t, k): [number, number | null] => [t, r.values[i]?.[k] ?? null])),
            },
          ]
        : [],
    )
  })
  return { rehearsal, lines, none }
}

// straightened leaves out what lies on the straight line between its neighbours, as far as a screen can tell: a
// dotted line of thousands of points is slow to draw.
export function straightened(points: [number, number | null][]): [number, number | null][] {
  const values = points.flatMap(([, x]) => (x === null ? [] : [x]))
  if (values.length < 3) return points
  const room = values.reduce((m, x) => Math.max(m, x), -Infinity) - values.reduce((m, x) => Math.min(m, x), Infinity)
  const tolerance = Math.max(room, 1e-9) / 400
  const kept: [number, number | null][] = []
  let from = 0
  for (let k = 0; k < points.length; k++) {
    const here = points[k]!
    if (k === 0 || k === points.length - 1 || here[1] === null || !liesOnLine(points, from, k + 1, tolerance)) {
      kept.push(here)
      from = k
    }
  }
  return kept
}

// liesOnLine tells whether the points between two places are within the tolerance of the line that joins them. Of
// many a few are looked at.
function liesOnLine(points: [number, number | null][], from: number, to: number, tolerance: number): boolean {
  const a = points[from]!
  const b = points[to]
  if (!b || a[1] === null || b[1] === null) return false
  const stride = Math.max(1, Math.floor((to - from) / 12))
  for (let k = from + 1; k < to; k += stride) {
    const p = points[k]!
    if (p[1] === null) return false
    const share = b[0] > a[0] ? (p[0] - a[0]) / (b[0] - a[0]) : 0
    if (Math.abs(p[1] - (a[1] + share * (b[1] - a[1]))) > tolerance) return false
  }
  const last = points[to - 1]!
  const share = b[0] > a[0] ? (last[0] - a[0]) / (b[0] - a[0]) : 0
  return last[1] !== null && Math.abs(last[1] - (a[1] + share * (b[1] - a[1]))) <= tolerance
}

// between is the part of a line from a to b, with its ends on it. Its points are in the order of time.
export function between(points: [number, number | null][], a: number, b: number): [number, number | null][] {
  const inside = points.filter(([t]) => t >= a && t <= b)
  const cross = (from: number, at: number): [number, number | null][] => {
    const p = points[from]
    const q = points[from + 1]
    if (!p || !q || p[1] === null || q[1] === null || p[0] >= at || q[0] <= at) return []
    return [[at, p[1] + ((q[1] - p[1]) * (at - p[0])) / (q[0] - p[0])]]
  }
  const before = points.findLastIndex(([t]) => t < a)
  const last = points.findLastIndex(([t]) => t <= b)
  return [...cross(before, a), ...inside, ...cross(last, b)]
}
