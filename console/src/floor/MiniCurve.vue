<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ values: (number | null)[]; color: string; label: string }>()
const width = 460
const height = 64

const path = computed(() => {
  const xs = props.values
  const present = xs.filter((x): x is number => x !== null)
  if (present.length < 2) return ''
  const low = Math.min(...present)
  const span = Math.max(Math.max(...present) - low, Math.abs(low) * 1e-3, 1e-9)
  let pen = 'M'
  let d = ''
  xs.forEach((x, i) => {
    if (x === null) {
      pen = 'M'
      return
    }
    const across = (i / (xs.length - 1)) * width
    const down = height - 4 - ((x - low) / span) * (height - 8)
    d += `${pen}${across.toFixed(1)} ${down.toFixed(1)}`
    pen = 'L'
  })
  return d
})
</script>

<template>
  <svg :viewBox="`0 0 ${width} ${height}`" preserveAspectRatio="none" role="img" :aria-label="label">
    <path :d="path" fill="none" :stroke="color" stroke-width="1.8" vector-effect="non-scaling-stroke" />
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  height: 70px;
}
</style>
