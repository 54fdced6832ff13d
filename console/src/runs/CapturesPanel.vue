<script setup lang="ts">
import { computed, ref, toRef, watch } from 'vue'

import { api } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { prefixed } from '../parts/prefixed'
import CaptureChart from './CaptureChart.vue'
import MakeupChart from './MakeupChart.vue'
import { nameOf, useCaptures } from './captures'
import { useStatistics } from './statistics'

const props = defineProps<{ run: string; serial: string; state: string }>()
const { all, chosen, shown, whole, view, error, choose, show, refresh } = useCaptures(toRef(props, 'run'))
const chart = ref<InstanceType<typeof CaptureChart> | null>(null)
const makeup = ref<InstanceType<typeof MakeupChart> | null>(null)
// What is shown of the channels: their values over time, their frequencies, or how often each value occurs.
const ways = [
  { value: 'time', title: 'Over time' },
  { value: 'spectrum', title: 'Spectrum' },
  { value: 'histogram', title: 'Histogram' },
] as const
const way = ref<(typeof ways)[number]['value']>('time')
const cursors = ref<[number | null, number | null]>([null, null])
watch(() => props.state, refresh)
watch(chosen, () => (cursors.value = [null, null]))

function pick(t: number, second: boolean) {
  const [a, b] = cursors.value
  if (second || (a !== null && b === null)) cursors.value = [a, t]
  else cursors.value = [t, a === null ? b : null]
}

const first = computed(() => chosen.value[0])
const between = useStatistics(
  () => props.run,
  cursors,
  () => first.value,
)
const about = computed(() => {
  const c = all.value.find((x) => x.index === first.value)
  const k = c?.channels[0]
  return k ? `${k.samples.toLocaleString('en-GB')} samples, one every ${prefixed(k.step, 's', 3)}` : ''
})

// valueAt is what a line is at a time: the nearest sample that is drawn.
function valueAt(data: [number, number][], t: number | null): number | null {
  if (t === null || !data.length) return null
  let low = 0
  let high = data.length - 1
  while (high - low > 1) {
    const middle = (low + high) >> 1
    if (data[middle]![0] <= t) low = middle
    else high = middle
  }
  return (t - data[low]![0] <= data[high]![0] - t ? data[low] : data[high])![1]
}
const measured = computed(() => {
  const [a, b] = cursors.value
  return shown.value.flatMap((s) =>
    s.traces.map((t) => {
      const x = valueAt(t.data, a)
      const y = valueAt(t.data, b)
      const of = s.index === first.value ? between.value.find((x) => x.name === t.name) : undefined
      return {
        key: `${s.index} ${t.name}`,
        name: shown.value.length > 1 ? `${t.name}, ${s.label}` : t.name,
        unit: t.unit,
        a: x,
        b: y,
        difference: x !== null && y !== null ? y - x : null,
        of,
      }
    }),
  )
})
const apart = computed(() => {
  const [a, b] = cursors.value
  return a === null || b === null || a === b ? null : Math.abs(b - a)
})
</script>

<template>
  <div v-if="all.length" class="panel" data-test="captures">
    <div class="tools">
      <h2>Captures</h2>
      <span class="muted">{{ about }}</span>
      <span class="grow" />
      <v-btn
        v-for="w in ways"
        :key="w.value"
        size="small"
        :variant="way === w.value ? 'flat' : 'outlined'"
        :color="way === w.value ? 'primary' : undefined"
        :aria-pressed="way === w.value"
        :data-test="`way-${w.value}`"
        @click="way = w.value"
        >{{ w.title }}</v-btn
      >
      <v-btn size="small" :disabled="!view" @click="show(whole[0], whole[1])">Whole capture</v-btn>
      <v-btn size="small" :disabled="cursors[0] === null" @click="cursors = [null, null]">Clear cursors</v-btn>
      <v-btn size="small" @click="(chart ?? makeup)?.savePNG()">PNG</v-btn>
      <v-btn size="small" @click="(chart ?? makeup)?.saveSVG()">SVG</v-btn>
      <v-btn v-if="makeup" size="small" @click="makeup.saveCSV()">CSV</v-btn>
      <v-btn v-else-if="first !== undefined" size="small" :href="api.captureURL(run, first, view?.[0], view?.[1])"
        >CSV of the view</v-btn
      >
    </div>
    <div class="list">
      <v-btn
        v-for="c in all"
        :key="c.index"
        size="small"
        :variant="chosen.includes(c.index) ? 'flat' : 'outlined'"
        :color="chosen.includes(c.index) ? 'primary' : undefined"
        :aria-pressed="chosen.includes(c.index)"
        @click="choose(c.index, ($event as MouseEvent).shiftKey)"
        >{{ nameOf(c, all) }}<span v-if="c.channels.some((k) => k.clipped)" class="bad">&nbsp;clipped</span></v-btn
      >
    </div>
    <ProblemNote :error="error" />
    <MakeupChart
      v-if="way !== 'time' && first !== undefined"
      ref="makeup"
      :run="run"
      :capture="first"
      :view="view"
      :of="way"
      :name="`${serial}-capture-${first}`"
    />
    <CaptureChart
      v-else-if="shown.length"
      ref="chart"
      :shown="shown"
      :from="whole[0]"
      :to="whole[1]"
      :view="view"
      :cursors="cursors"
      :name="`${serial}-capture-${first}`"
      @view="show"
      @pick="pick"
    />
    <p v-if="way === 'time'" class="muted hint">
      Wheel zooms, drag pans, double click shows the whole capture. Click sets cursor A, then B. Shift with a click on a
      name lays it over the others, aligned at the trigger.
    </p>
    <div v-if="cursors[0] !== null" class="scroll">
      <table class="plain" data-test="capture-cursors">
        <thead>
          <tr>
            <th>cursor</th>
            <th class="right">A · {{ prefixed(cursors[0], 's') }}</th>
            <th class="right">B · {{ prefixed(cursors[1], 's') }}</th>
            <th class="right">
              B − A{{ apart === null ? '' : ` · ${prefixed(apart, 's')} · ${prefixed(1 / apart, 'Hz')}` }}
            </th>
            <template v-if="between.length">
              <th class="right">mean</th>
              <th class="right">effective</th>
              <th class="right">least</th>
              <th class="right">largest</th>
              <th class="right">frequency</th>
            </template>
          </tr>
        </thead>
        <tbody>
          <tr v-for="m in measured" :key="m.key">
            <td>{{ m.name }}</td>
            <td class="right">{{ prefixed(m.a, m.unit) }}</td>
            <td class="right">{{ prefixed(m.b, m.unit) }}</td>
            <td class="right">{{ prefixed(m.difference, m.unit) }}</td>
            <template v-if="between.length">
              <td class="right">{{ prefixed(m.of?.mean, m.unit) }}</td>
              <td class="right">{{ prefixed(m.of?.rms, m.unit) }}</td>
              <td class="right">{{ prefixed(m.of?.least, m.unit) }}</td>
              <td class="right">{{ prefixed(m.of?.largest, m.unit) }}</td>
              <td class="right">{{ prefixed(m.of?.frequency, 'Hz') }}</td>
            </template>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.tools,
.list {
  display: flex;
  gap: 8px 12px;
  align-items: baseline;
  flex-wrap: wrap;
  margin-bottom: 6px;
}
.list {
  gap: 6px 8px;
  margin-bottom: 10px;
}
.hint {
  font-size: 12px;
  margin: 4px 0 8px;
}
.bad {
  color: var(--fail);
}
</style>
