<script setup lang="ts">
import { ref } from 'vue'

import type { Point } from '../api'
import { fixed } from '../parts/format'

defineProps<{ points: Point[] }>()
const all = ref(false)
const few = 12
const mean = (p: Point, column: string) => p.averages[column]?.mean
function efficiency(p: Point): number | null {
  const source = mean(p, 'source.watts')
  const load = mean(p, 'load.watts')
  return source && load && load > 0 ? (100 * load) / source : null
}
</script>

<template>
  <div class="panel scroll">
    <h2>Points</h2>
    <table class="plain" data-test="points">
      <thead>
        <tr>
          <th class="right">no.</th>
          <th class="right">line set (V)</th>
          <th class="right">load set (A)</th>
          <th class="right">source (V)</th>
          <th class="right">source (A)</th>
          <th class="right">load (V)</th>
          <th class="right">load (A)</th>
          <th class="right">in (W)</th>
          <th class="right">out (W)</th>
          <th class="right">efficiency (%)</th>
          <th class="right">readings</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in all ? points : points.slice(0, few)" :key="p.index">
          <td class="right muted">{{ p.index + 1 }}</td>
          <td class="right">{{ fixed(p.place['source.volts'], 2) }}</td>
          <td class="right">{{ fixed(p.place['load.amps'], 3) }}</td>
          <td class="right">{{ fixed(mean(p, 'source.volts'), 3) }}</td>
          <td class="right">{{ fixed(mean(p, 'source.amps'), 4) }}</td>
          <td class="right">{{ fixed(mean(p, 'load.volts'), 4) }}</td>
          <td class="right">{{ fixed(mean(p, 'load.amps'), 4) }}</td>
          <td class="right">{{ fixed(mean(p, 'source.watts'), 3) }}</td>
          <td class="right">{{ fixed(mean(p, 'load.watts'), 3) }}</td>
          <td class="right">{{ fixed(efficiency(p), 2) }}</td>
          <td class="right muted">{{ p.averages['load.volts']?.n ?? 0 }}</td>
        </tr>
      </tbody>
    </table>
    <v-btn v-if="points.length > few" size="small" class="mt-3" @click="all = !all">{{
      all ? 'Show fewer' : `Show all ${points.length}`
    }}</v-btn>
  </div>
</template>
