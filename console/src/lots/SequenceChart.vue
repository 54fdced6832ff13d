<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'

import type { LotFigure } from '../api'
import { short } from '../parts/format'
import { scaleOf, share } from './scale'

// The values of a figure in the order of the units, against its limits: does the lot drift, which units stand apart?
const props = defineProps<{ figure: LotFigure }>()
const router = useRouter()
const width = 460
const height = 150
const left = 52
const bottom = 22
const top = 8

const scale = computed(() =>
  scaleOf([...props.figure.sequence.flatMap((s) => [s.low, s.high]), props.figure.min, props.figure.max]),
)
const x = (i: number) => left + ((i + 0.5) / Math.max(props.figure.sequence.length, 1)) * (width - left - 8)
const y = (v: number) => height - bottom - share(scale.value, v) * (height - bottom - top)
const far = computed(() => new Set(props.figure.outliers.map((o) => o.serial)))
const limits = computed(() => [props.figure.min, props.figure.max].filter((v): v is number => v !== undefined))
const ticks = computed(() => [...limits.value, ...(props.figure.mean === null ? [] : [props.figure.mean])])
const line = computed(() => {
  const { drift, driftU, mean, n } = props.figure
  if (drift === null || driftU === null || mean === null || Math.abs(drift) <= driftU) return null // none is proven
  const span = (drift * (n - 1)) / 2
  return { y1: y(mean - span), y2: y(mean + span) }
})
const label = computed(() => `${props.figure.title} over ${props.figure.n} units in their order`)
const open = (serial: string) => void router.push({ name: 'unit', params: { serial } })
</script>

<template>
  <svg :viewBox="`0 0 ${width} ${height}`" role="img" :aria-label="label">
    <g v-for="v in limits" :key="v">
      <line :x1="left" :x2="width - 8" :y1="y(v)" :y2="y(v)" class="limit" />
    </g>
    <text v-for="v in ticks" :key="v" :x="left - 6" :y="y(v) + 4" class="end">{{ short(v) }}</text>
    <line v-if="line" :x1="left" :x2="width - 8" :y1="line.y1" :y2="line.y2" class="drift" />
    <template v-for="(s, i) in figure.sequence" :key="i">
      <line v-if="s.high > s.low" :x1="x(i)" :x2="x(i)" :y1="y(s.low)" :y2="y(s.high)" class="span" />
      <circle
        :cx="x(i)"
        :cy="y(s.mean)"
        :r="far.has(s.serial) ? 4 : 2.2"
        :class="{ far: far.has(s.serial) }"
        @click="open(s.serial)"
      >
        <title>{{ s.serial }}: {{ short(s.mean) }} {{ figure.unit }}</title>
      </circle>
    </template>
    <text :x="left" :y="height - 6">{{ figure.sequence[0]?.serial }}</text>
    <text :x="width - 8" :y="height - 6" class="end">{{ figure.sequence[figure.sequence.length - 1]?.serial }}</text>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  max-width: 620px;
  font-size: 11px;
}
.limit {
  stroke: var(--fail);
  stroke-width: 1.2;
}
.drift {
  stroke: var(--ink);
  stroke-dasharray: 4 3;
}
.span {
  stroke: var(--volts);
  opacity: 0.5;
}
circle {
  fill: var(--volts);
  cursor: pointer;
}
circle.far {
  fill: var(--fail);
}
text {
  fill: var(--muted);
}
.end {
  text-anchor: end;
}
</style>
