import { defineStore } from 'pinia'
import { computed, reactive, ref } from 'vue'

import {
  api,
  type Bay,
  type Frames,
  type MarkEvent,
  type Place,
  type PointEvent,
  type RunSummary,
  type SignalEvent,
} from '../api'

// The service says something at least every two seconds; after three silences the numbers count as old.
const silentAfter = 6000

export interface LiveListener {
  frames?: (f: Frames) => void
  mark?: (m: MarkEvent) => void
  point?: (p: PointEvent) => void
  run?: (r: RunSummary) => void
  signal?: (s: SignalEvent) => void
  place?: (p: Place) => void
  // gap is called when events may have been missed, so that what was built from them is fetched anew.
  gap?: () => void
}

// useLive keeps the newest state of every bay from the live stream. The stream comes back by itself and continues
// where it was.
export const useLive = defineStore('live', () => {
  const bays = reactive(new Map<string, Bay>())
  const loaded = ref(false)
  const connected = ref(true)
  const heardAt = ref(Date.now())
  const list = computed(() => [...bays.values()])
  const listeners = new Set<LiveListener>()
  let source: EventSource | null = null
  let watchdog = 0
  let retry = 0

  function heard() {
    heardAt.value = Date.now()
    connected.value = true
  }

  async function fetchAll() {
    const all = await api.bays()
    bays.clear()
    for (const bay of all) bays.set(bay.name, bay)
    loaded.value = true
    heard()
  }

  function on<T>(kind: string, take: (data: T) => void) {
    source?.addEventListener(kind, (e) => {
      heard()
      take(JSON.parse((e as MessageEvent<string>).data) as T)
    })
  }

  function open() {
    source?.close()
    source = new EventSource('/api/v1/live')
    on<Bay>('bay', (bay) => bays.set(bay.name, bay))
    on<Frames>('frames', (f) => listeners.forEach((l) => l.frames?.(f)))
    on<MarkEvent>('mark', (m) => listeners.forEach((l) => l.mark?.(m)))
    on<PointEvent>('point', (p) => listeners.forEach((l) => l.point?.(p)))
    on<RunSummary>('run', (r) => listeners.forEach((l) => l.run?.(r)))
    on<SignalEvent>('signal', (s) => listeners.forEach((l) => l.signal?.(s)))
    on<Place>('place', (p) => listeners.forEach((l) => l.place?.(p)))
    on<object>('tick', () => undefined)
    on<object>('reset', () => void recover())
    source.onerror = () => {
      connected.value = false
      // A browser gives up for good on some errors; then the stream is opened anew.
      if (source?.readyState === EventSource.CLOSED) {
        clearTimeout(retry)
        retry = window.setTimeout(() => {
          open()
          void recover()
        }, 1500)
      }
    }
  }

  async function recover() {
    try {
      await fetchAll()
      listeners.forEach((l) => l.gap?.())
    } catch {
      connected.value = false
    }
  }

  function start() {
    if (source) return
    open()
    void recover()
    watchdog = window.setInterval(() => {
      if (Date.now() - heardAt.value > silentAfter && connected.value) {
        connected.value = false
        open()
        void recover()
      }
    }, 1000)
  }

  function stop() {
    source?.close()
    source = null
    clearInterval(watchdog)
    clearTimeout(retry)
    bays.clear()
    loaded.value = false
  }

  function listen(l: LiveListener): () => void {
    listeners.add(l)
    return () => listeners.delete(l)
  }

  return { bays, list, loaded, connected, heardAt, start, stop, listen, recover }
})
