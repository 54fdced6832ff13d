<script setup lang="ts">
import { computed } from 'vue'

import type { Point } from '../api'
import { quantity } from './catalogue'
import { quantityOf, reading, seconds, unitOf } from './format'
import { signs, type TakeLimits, verdictOf } from './taking'

// The rows that acquire and seek took: each with the quantities that it has, and with limits how good each is.
const props = defineProps<{ points: Point[]; limits?: TakeLimits; title?: string }>()
const columns = computed(() =>
  [...new Set(props.points.flatMap((p) => Object.keys(p.averages)))].filter((c) => quantity(quantityOf(c))?.read),
)
const remarks = computed(() => props.points.some((p) => p.recovery))
const verdict = (p: Point, c: string) => verdictOf(props.limits?.[c], p.averages[c]?.mean)
</script>

<template>
  <div class="panel scroll">
    <h2>{{ title ?? 'Rows' }}</h2>
    <table class="plain" data-test="rows">
      <thead>
        <tr>
          <th>row</th>
          <th class="right">at</th>
          <th v-for="c in columns" :key="c" class="right">{{ c }} ({{ unitOf(c) }})</th>
          <th v-if="remarks">remark</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in points" :key="p.index">
          <td>{{ p.row }}</td>
          <td class="right muted">{{ seconds(p.t1) }}</td>
          <td v-for="c in columns" :key="c" class="right" :class="verdict(p, c)">
            <span v-if="verdict(p, c)" class="sign">{{ signs[verdict(p, c)!] }}</span>
            {{ reading(c, p.averages[c]?.mean) }}
            <span v-if="verdict(p, c)" class="word">{{ verdict(p, c) }}</span>
          </td>
          <td v-if="remarks" class="muted">{{ p.recovery ?? '' }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.good {
  color: var(--pass);
}
.marginal {
  color: var(--marginal);
}
.bad {
  color: var(--fail);
  font-weight: 620;
}
.word {
  font-size: 12px;
  margin-left: 4px;
}
.sign {
  margin-right: 4px;
}
</style>
