<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Point } from '../api'
import { quantity } from './catalogue'
import { fixed, quantityOf, unitOf } from './format'
import { prefixed } from './prefixed'

// The points of grids: what was set, as far as it differs, and the mean of what was read.
const props = defineProps<{ points: Point[]; newestFirst?: boolean }>()
const all = ref(false)
const few = 12

const set = computed(() => {
  const columns = [...new Set(props.points.flatMap((p) => Object.keys(p.place)))].sort().reverse()
  return columns.filter((c) => props.points.some((p) => p.place[c] !== props.points[0]!.place[c]))
})
const read = computed(() =>
  [...new Set(props.points.flatMap((p) => Object.entries(p.averages).flatMap(([c, a]) => (a.n > 0 ? [c] : []))))]
    .filter((c) => quantity(quantityOf(c))?.read)
    .sort()
    .reverse(),
)
// Efficiency has a column where power flows through the unit.
const through = computed(() => read.value.includes('source.watts') && read.value.includes('load.watts'))
function efficiency(p: Point): number | null {
  const [into, out] = [p.averages['source.watts']?.mean, p.averages['load.watts']?.mean]
  return into && out && out > 0 ? (100 * out) / into : null
}
// amount has the digits of the quantity, or four that count where so few decimals would leave nothing.
function amount(column: string, x: number | undefined): string {
  if (x === undefined || x === null) return '—'
  const decimals = quantity(quantityOf(column))?.decimals ?? 3
  return x !== 0 && Math.abs(x) < 10 ** (1 - decimals) ? prefixed(x, '') : fixed(x, decimals)
}
const words = (column: string) => column.replace('.', ' ')
const ordered = computed(() => (props.newestFirst ? [...props.points].reverse() : props.points))
const shown = computed(() => (all.value ? ordered.value : ordered.value.slice(0, few)))
</script>

<template>
  <div class="panel scroll">
    <h2>Points</h2>
    <table class="plain" data-test="points">
      <thead>
        <tr>
          <th class="right">no.</th>
          <th v-for="c in set" :key="`set ${c}`" class="right">{{ words(c) }} set ({{ unitOf(c) }})</th>
          <th v-for="c in read" :key="c" class="right">
            {{ words(c) }}<template v-if="unitOf(c)"> ({{ unitOf(c) }})</template>
          </th>
          <th v-if="through" class="right">efficiency (%)</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in shown" :key="p.index">
          <td class="right muted">{{ p.index + 1 }}</td>
          <td v-for="c in set" :key="`set ${c}`" class="right">{{ amount(c, p.place[c]) }}</td>
          <td v-for="c in read" :key="c" class="right">{{ amount(c, p.averages[c]?.mean) }}</td>
          <td v-if="through" class="right">{{ fixed(efficiency(p), 2) }}</td>
        </tr>
      </tbody>
    </table>
    <v-btn v-if="points.length > few" size="small" class="mt-3" @click="all = !all">{{
      all ? 'Show fewer' : `Show all ${points.length}`
    }}</v-btn>
  </div>
</template>
