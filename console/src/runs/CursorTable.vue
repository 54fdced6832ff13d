<script setup lang="ts">
import { computed } from 'vue'

import type { Statistic } from '../api'
import { clock, digits, reading, seconds, unitOf } from '../parts/format'
import type { Line } from '../parts/TraceChart.vue'

const props = defineProps<{ lines: Line[]; cursors: [number | null, number | null]; between?: Statistic[] }>()

// at is the value of a line at a time: straight between samples, nothing beyond them.
function at(line: Line, t: number | null): number | null {
  if (t === null) return null
  const d = line.data
  let low = 0
  let high = d.length - 1
  if (high < 0 || t < d[0]![0] || t > d[high]![0]) return null
  while (high - low > 1) {
    const middle = (low + high) >> 1
    if (d[middle]![0] <= t) low = middle
    else high = middle
  }
  const [t0, x0] = d[low]!
  const [t1, x1] = d[high]!
  if (x0 === null || x1 === null) return null
  return t1 === t0 ? x0 : x0 + ((x1 - x0) * (t - t0)) / (t1 - t0)
}

const rows = computed(() =>
  props.lines.map((l) => {
    const a = at(l, props.cursors[0])
    const b = at(l, props.cursors[1])
    const of = props.between?.find((s) => s.name === l.column)
    return { column: l.column, a, b, difference: a !== null && b !== null ? b - a : null, of }
  }),
)
const apart = computed(() =>
  props.cursors[0] !== null && props.cursors[1] !== null ? Math.abs(props.cursors[1] - props.cursors[0]) : null,
)
</script>

<template>
  <div class="scroll">
    <table class="plain" data-test="cursors">
      <thead>
        <tr>
          <th>cursor</th>
          <th class="right">A · {{ cursors[0] === null ? '—' : clock(cursors[0], 1) }}</th>
          <th class="right">B · {{ cursors[1] === null ? '—' : clock(cursors[1], 1) }}</th>
          <th class="right">B − A{{ apart === null ? '' : ` · ${seconds(apart)}` }}</th>
          <template v-if="between?.length">
            <th class="right">mean</th>
            <th class="right">effective</th>
            <th class="right">least</th>
            <th class="right">largest</th>
            <th class="right">slope /s</th>
          </template>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.column">
          <td>
            {{ r.column }} <span class="muted">{{ unitOf(r.column) }}</span>
          </td>
          <td class="right">{{ reading(r.column, r.a) }}</td>
          <td class="right">{{ reading(r.column, r.b) }}</td>
          <td class="right">{{ reading(r.column, r.difference) }}</td>
          <template v-if="between?.length">
            <td class="right">{{ reading(r.column, r.of?.mean) }}</td>
            <td class="right">{{ reading(r.column, r.of?.rms) }}</td>
            <td class="right">{{ reading(r.column, r.of?.least) }}</td>
            <td class="right">{{ reading(r.column, r.of?.largest) }}</td>
            <td class="right">{{ r.of?.slope === undefined ? '—' : digits(r.of.slope, 4) }}</td>
          </template>
        </tr>
      </tbody>
    </table>
  </div>
</template>
