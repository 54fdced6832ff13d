<script setup lang="ts">
import { computed } from 'vue'

import type { LotFigure } from '../api'
import { short } from '../parts/format'
import { scaleOf, share } from './scale'

// How the values of a figure lie over the units, against its limits.
const props = defineProps<{ figure: LotFigure }>()
const width = 460
const height = 150
const left = 34
const bottom = 24
const top = 14

const scale = computed(() =>
  scaleOf([...props.figure.bins.flatMap((b) => [b.low, b.high]), props.figure.min, props.figure.max]),
)
const most = computed(() => Math.max(...props.figure.bins.map((b) => b.units), 1))
const x = (v: number) => left + share(scale.value, v) * (width - left - 8)
const y = (n: number) => height - bottom - (n / most.value) * (height - bottom - top)
const bars = computed(() =>
  props.figure.bins.map((b) => ({
    x: x(b.low) + 0.5,
    y: y(b.units),
    width: Math.max(x(b.high) - x(b.low) - 1, 1.5),
    height: height - bottom - y(b.units),
    says: `${b.units} from ${short(b.low)} to ${short(b.high)} ${props.figure.unit}`,
  })),
)
const limits = computed(() =>
  (
    [
      ['min', props.figure.min],
      ['max', props.figure.max],
    ] as const
  ).flatMap(([word, v]) => (v === undefined ? [] : [{ word, x: x(v), text: short(v) }])),
)
const label = computed(
  () =>
    `${props.figure.title}: ${props.figure.n} units in ${props.figure.bins.length} bars, ` +
    limits.value.map((l) => `${l.word} ${l.text} ${props.figure.unit}`).join(', '),
)
</script>

<template>
  <svg :viewBox="`0 0 ${width} ${height}`" role="img" :aria-label="label">
    <line :x1="left" :x2="width - 8" :y1="height - bottom" :y2="height - bottom" class="axis" />
    <text :x="left - 6" :y="y(most) + 4" class="end">{{ most }}</text>
    <text :x="left - 6" :y="height - bottom + 4" class="end">0</text>
    <rect v-for="(b, i) in bars" :key="i" class="column" :x="b.x" :y="b.y" :width="b.width" :height="b.height">
      <title>{{ b.says }}</title>
    </rect>
    <g v-if="figure.mean !== null">
      <line :x1="x(figure.mean)" :x2="x(figure.mean)" :y1="top" :y2="height - bottom" class="mean" />
      <text :x="x(figure.mean)" :y="height - 8" class="middle">{{ short(figure.mean) }} {{ figure.unit }}</text>
    </g>
    <g v-for="l in limits" :key="l.word">
      <line :x1="l.x" :x2="l.x" :y1="top - 4" :y2="height - bottom" class="limit" />
      <text :x="l.x" :y="top - 5" class="middle limited">{{ l.word }} {{ l.text }}</text>
    </g>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  max-width: 620px;
  font-size: 11px;
}
.axis {
  stroke: var(--line);
}
.column {
  fill: var(--volts);
  opacity: 0.75;
}
.mean {
  stroke: var(--ink);
  stroke-dasharray: 4 3;
}
.limit {
  stroke: var(--fail);
  stroke-width: 1.5;
}
text {
  fill: var(--muted);
}
.limited {
  fill: var(--fail);
}
.end {
  text-anchor: end;
}
.middle {
  text-anchor: middle;
}
</style>
