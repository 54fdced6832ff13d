import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { api, type Capture, type CaptureWindow } from '../api'
import { prefixed } from '../parts/prefixed'

// Shown is a capture as it is drawn: of each channel the lowest and highest values, one after the other.
export interface Shown {
  index: number
  label: string
  traces: { name: string; unit: string; data: [number, number][] }[]
}

const most = 1600

// nameOf calls a capture by its stage, or by its trigger and how far it goes beyond its level.
export const nameOf = (c: Capture, all: Capture[]) => {
  const beyond = c.beyond ? ` · ${prefixed(c.beyond, c.channels[0]?.unit ?? '', 3)}` : ''
  return (all.some((o) => o.index !== c.index && o.stage === c.stage) ? `${c.stage}, ${c.of}` : c.stage) + beyond
}

// useCaptures holds the captures of a run, and the visible part of those that are chosen at the resolution of the
// screen.
export function useCaptures(run: Ref<string>) {
  const all = shallowRef<Capture[]>([])
  const chosen = ref<number[]>([])
  const windows = shallowRef<CaptureWindow[]>([])
  const view = ref<[number, number] | undefined>(undefined)
  const error = ref<unknown>(null)
  let asked = 0
  let timer = 0

  const whole = computed<[number, number]>(() => {
    const channels = all.value.filter((c) => chosen.value.includes(c.index)).flatMap((c) => c.channels)
    if (!channels.length) return [0, 1e-3]
    return [
      Math.min(...channels.map((k) => k.t0)),
      Math.max(...channels.map((k) => k.t0 + k.step * Math.max(k.samples - 1, 1))),
    ]
  })

  async function list() {
    const of = run.value
    try {
      const found = await api.captures(of)
      if (of !== run.value) return
      const first = !all.value.length && found.length
      all.value = found
      if (first) choose(found[0]!.index)
      error.value = null
    } catch (e) {
      error.value = e
    }
  }

  async function fetchWindows() {
    const ticket = ++asked
    try {
      const [from, to] = view.value ?? [undefined, undefined]
      const spare = from !== undefined && to !== undefined ? (to - from) / 2 : 0
      const got = await Promise.all(
        chosen.value.map((index) =>
          api.capture(run.value, index, {
            from: from === undefined ? undefined : from - spare,
            to: to === undefined ? undefined : to + spare,
            points: most,
          }),
        ),
      )
      if (ticket !== asked) return
      windows.value = got
      error.value = null
    } catch (e) {
      error.value = e
    }
  }

  function choose(index: number, beside = false) {
    if (!beside) chosen.value = [index]
    else if (!chosen.value.includes(index)) chosen.value = [...chosen.value, index]
    else if (chosen.value.length > 1) chosen.value = chosen.value.filter((i) => i !== index)
    view.value = undefined
    void fetchWindows()
  }

  function show(from: number, to: number) {
    const [a, b] = whole.value
    view.value = to - from >= (b - a) * 0.999 ? undefined : [Math.max(from, a), Math.min(to, b)]
    clearTimeout(timer)
    timer = window.setTimeout(() => void fetchWindows(), 120)
  }

  const shown = computed<Shown[]>(() =>
    windows.value.map((w) => ({
      index: w.index,
      label: nameOf(all.value.find((c) => c.index === w.index) ?? w, all.value),
      traces: w.traces.map((t) => ({
        name: t.name,
        unit: t.unit,
        data: t.t.flatMap((x, k): [number, number][] =>
          t.high
            ? [
                [x, t.low[k]!],
                [x, t.high[k]!],
              ]
            : [[x, t.low[k]!]],
        ),
      })),
    })),
  )
  watch(
    run,
    () => {
      all.value = []
      chosen.value = []
      windows.value = []
      view.value = undefined
      void list()
    },
    { immediate: true },
  )
  return { all, chosen, shown, whole, view, error, choose, show, refresh: list }
}
