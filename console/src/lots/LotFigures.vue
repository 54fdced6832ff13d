<script setup lang="ts">
import { ref } from 'vue'

import type { LotFigure } from '../api'
import { short } from '../parts/format'
import HistogramChart from './HistogramChart.vue'
import SequenceChart from './SequenceChart.vue'

// The figures of a lot: each a row, and what is opened shows how its values lie.
defineProps<{ figures: LotFigure[] }>()
const open = ref(new Set([0]))
const toggle = (i: number) => (open.value.has(i) ? open.value.delete(i) : open.value.add(i))

const limit = (f: LotFigure) => {
  if (f.min === undefined && f.max === undefined) return '—'
  if (f.min === undefined) return `≤ ${short(f.max)} ${f.unit}`
  return f.max === undefined ? `≥ ${short(f.min)} ${f.unit}` : `${short(f.min)} … ${short(f.max)} ${f.unit}`
}
const two = (x: number) => x.toFixed(2)
const drifts = (f: LotFigure) =>
  f.drift !== null && f.driftU !== null && Math.abs(f.drift) > f.driftU
    ? `${short(f.drift)} ${f.unit} a unit`
    : 'none proven'
</script>

<template>
  <div class="panel scroll">
    <h2>Figures</h2>
    <table class="plain" data-test="lot-figures">
      <thead>
        <tr>
          <th />
          <th>figure</th>
          <th>at</th>
          <th class="right">units</th>
          <th class="right">mean</th>
          <th class="right">s</th>
          <th class="right">limit</th>
          <th class="right">cpk (95 %)</th>
          <th class="right">ppk (95 %)</th>
          <th>drift</th>
          <th>far from the others</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="(f, i) in figures" :key="i">
          <tr class="link" tabindex="0" @click="toggle(i)" @keydown.enter="toggle(i)">
            <td class="muted">{{ open.has(i) ? '▾' : '▸' }}</td>
            <td class="name">{{ f.title }}</td>
            <td class="muted">{{ f.where || '—' }}</td>
            <td class="right">{{ f.n }}</td>
            <td class="right">{{ short(f.mean) }} {{ f.unit }}</td>
            <td class="right">{{ short(f.sd) }} {{ f.unit }}</td>
            <td class="right">{{ limit(f) }}</td>
            <td v-for="c in [f.cpk, f.ppk]" :key="c?.value" class="right">
              {{ c ? two(c.value) : '—' }}
              <div v-if="c" class="muted note">{{ two(c.low) }} … {{ two(c.high) }}</div>
            </td>
            <td>{{ drifts(f) }}</td>
            <td>
              <router-link
                v-for="o in f.outliers.slice(0, 5)"
                :key="o.serial"
                class="far"
                :to="{ name: 'unit', params: { serial: o.serial } }"
                @click.stop
                >{{ o.serial }}</router-link><span v-if="f.outliers.length > 5" class="muted"
                >and {{ f.outliers.length - 5 }} more</span
              >
              <span v-if="!f.outliers.length" class="muted">none</span>
            </td>
          </tr>
          <tr v-if="open.has(i) && f.bins.length">
            <td />
            <td colspan="10">
              <div class="charts"><HistogramChart :figure="f" /><SequenceChart :figure="f" /></div>
              <p v-if="f.why || f.remarks?.length" class="muted note">
                {{ [f.why, ...(f.remarks ?? [])].filter(Boolean).join('; ') }}
              </p>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.name {
  font-weight: 600;
  white-space: nowrap;
}
.charts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(320px, 1fr));
  gap: 18px;
}
.far {
  margin-right: 8px;
}
.note {
  margin: 4px 0 0;
  font-size: 12px;
}
</style>
