<script setup lang="ts">
import { computed } from 'vue'

import type { Figure } from '../api'
import { cell } from './format'

// What figures are made of: cycles, stages of a charger, steps. A curve of hundreds of places is in the data files.
const props = defineProps<{ figures: Figure[] }>()
const mostRows = 60
// Figures that are made of the same are named above one table.
const shown = computed(() => {
  const all = new Map<string, { f: Figure; titles: string[] }>()
  for (const f of props.figures) {
    if (!f.table?.rows.length || f.table.rows.length > mostRows) continue
    const same = JSON.stringify(f.table)
    all.set(same, { f: all.get(same)?.f ?? f, titles: [...(all.get(same)?.titles ?? []), f.title] })
  }
  return [...all.values()]
})
// words tells a column of words from one of numbers.
const words = (f: Figure, column: number) => typeof f.table!.rows[0]?.[column] === 'string'
</script>

<template>
  <section v-for="({ f, titles }, i) in shown" :key="i" class="mt-5" :data-test="`table-${f.id}`">
    <h3>
      {{ titles.join(', ') }} <span class="muted">{{ f.where }}</span>
    </h3>
    <table class="plain">
      <thead>
        <tr>
          <th v-for="(c, k) in f.table!.columns" :key="c.name" :class="{ right: !words(f, k) }">
            {{ c.name }}<template v-if="c.unit && c.unit !== 's'"> ({{ c.unit }})</template>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, k) in f.table!.rows" :key="k">
          <td v-for="(x, c) in row" :key="c" :class="{ right: !words(f, c) }">
            {{ cell(x, f.table!.columns[c]?.unit) }}
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
h3 {
  font-size: 14px;
  font-weight: 620;
  margin-bottom: 4px;
}
.plain th {
  white-space: normal;
  vertical-align: bottom;
}
.plain td {
  font-variant-numeric: tabular-nums;
  white-space: nowrap;
}
</style>
