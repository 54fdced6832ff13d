<script setup lang="ts">
import { computed } from 'vue'

import type { Point } from '../api'
import { quantity } from '../parts/catalogue'
import { quantityOf, reading, seconds, unitOf } from '../parts/format'

// The rows that acquire and seek took: each with the quantities that it has.
const props = defineProps<{ points: Point[] }>()
const columns = computed(() =>
  [...new Set(props.points.flatMap((p) => Object.keys(p.averages)))].filter((c) => quantity(quantityOf(c))?.read),
)
</script>

<template>
  <div class="panel scroll">
    <h2>Rows</h2>
    <table class="plain" data-test="rows">
      <thead>
        <tr>
          <th>row</th>
          <th class="right">at</th>
          <th v-for="c in columns" :key="c" class="right">{{ c }} ({{ unitOf(c) }})</th>
          <th>remark</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in points" :key="p.index">
          <td>{{ p.row }}</td>
          <td class="right muted">{{ seconds(p.t1) }}</td>
          <td v-for="c in columns" :key="c" class="right">{{ reading(c, p.averages[c]?.mean) }}</td>
          <td class="muted">{{ p.recovery ?? '' }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
