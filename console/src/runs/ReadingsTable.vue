<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'

import { api, type Window } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { clock, reading, unitOf } from '../parts/format'
import { useRequest } from '../parts/request'

// The readings of a run, frame by frame, around cursor A: it is the same one in the curves and here.
const props = defineProps<{
  run: string
  columns: string[]
  cursor: number | null
  // begin is where the readings begin that are shown while no cursor is set.
  begin: number
  duration: number
  frames: number
}>()
const emit = defineEmits<{ pick: [t: number] }>()

// So many frames are shown on each side of the cursor; within so many of the end more are fetched.
const beside = 12
const near = 3
// The service reduces what is more.
const most = 8000

const shown = shallowRef<Window | null>(null)
const middle = computed(() => props.cursor ?? props.begin)
const nearest = computed(() => (shown.value ? nearestOf(shown.value.t, middle.value) : -1))

function nearestOf(t: number[], at: number): number {
  let best = -1
  t.forEach((x, k) => {
    if (best < 0 || Math.abs(x - at) < Math.abs(t[best]! - at)) best = k
  })
  return best
}

// around fetches frames about a time, from as much of the run as holds enough of them.
async function around(at: number): Promise<Window> {
  let half = Math.max((2 * beside * props.duration) / Math.max(props.frames, 1), 1e-3)
  for (;;) {
    const w = await api.window(props.run, {
      from: Math.max(at - half, 0),
      to: at + half,
      buckets: most,
      columns: props.columns,
    })
    const k = nearestOf(w.t, at)
    const whole = at - half <= 0 && at + half >= props.duration
    if (whole || !w.exact || (k >= Math.min(beside, at > 0 ? beside : 0) && w.t.length - k > beside)) return part(w, k)
    half *= 3
  }
}

// part is what of a window is shown around a frame.
function part(w: Window, k: number): Window {
  const [first, last] = [Math.max(k - beside, 0), k + beside + 1]
  return {
    ...w,
    t: w.t.slice(first, last),
    traces: w.traces.map((x) => ({ ...x, min: x.min.slice(first, last), max: x.max?.slice(first, last) })),
  }
}

let asked = 0
const { error, run: fetch } = useRequest(async () => {
  const ticket = ++asked
  const w = await around(middle.value)
  if (ticket === asked) shown.value = w
})
watch(
  () => [props.run, props.columns.join()],
  () => {
    shown.value = null
    void fetch()
  },
  { immediate: true },
)
watch(middle, () => {
  const t = shown.value?.t ?? []
  const inside = nearest.value >= near && nearest.value < t.length - near
  const ends = nearest.value >= 0 && (t[0] === 0 || t.at(-1)! >= props.duration - 1e-9)
  if (!inside && !(ends && middle.value >= t[0]! && middle.value <= t.at(-1)!)) void fetch()
})

function step(by: number) {
  const t = shown.value?.t[nearest.value + by]
  if (t !== undefined) emit('pick', t)
}
</script>

<template>
  <div class="scroll" data-test="readings">
    <ProblemNote :error="error" />
    <table
      v-if="shown"
      class="plain"
      tabindex="0"
      aria-label="Readings around cursor A; the arrow keys move it"
      @keydown.up.prevent="step(-1)"
      @keydown.down.prevent="step(1)"
    >
      <thead>
        <tr>
          <th class="right">t</th>
          <th v-for="x in shown.traces" :key="x.name" class="right">
            {{ x.name }} <span class="muted">{{ unitOf(x.name) }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="(t, k) in shown.t"
          :key="t"
          class="link"
          :class="{ at: k === nearest && cursor !== null }"
          :aria-selected="k === nearest && cursor !== null"
          data-test="reading"
          @click="emit('pick', t)"
        >
          <td class="right nowrap">{{ k === nearest && cursor !== null ? 'A ' : '' }}{{ clock(t, 1) }}</td>
          <td v-for="x in shown.traces" :key="x.name" class="right">{{ reading(x.name, x.min[k]) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.scroll {
  max-height: 420px;
  margin: 14px 0;
  overflow: auto;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--surface);
}
.at td {
  background: var(--idle-fill);
  font-weight: 650;
}
.nowrap {
  white-space: nowrap;
}
</style>
