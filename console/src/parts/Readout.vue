<script setup lang="ts">
import { computed } from 'vue'

import { quantity } from './catalogue'
import { fixed, quantityOf, reading, unitOf } from './format'
import { prefixOf } from './prefixed'

// range is the one in which the instrument measures, where it says so: its prefix is that of the reading, so that it
// does not change with each.
const props = defineProps<{
  column: string
  value: number | null | undefined
  range?: number | null
  label?: string
  small?: boolean
}>()
const color = computed(() => `var(--${quantity(quantityOf(props.column))?.colour ?? 'ink'})`)
const scale = computed(() => (props.range ? prefixOf(props.range) : ([1, ''] as const)))
const text = computed(() => {
  if (!props.range || props.value === null || props.value === undefined) return reading(props.column, props.value)
  return fixed(props.value / scale.value[0], props.value === props.range ? 0 : 3)
})
</script>

<template>
  <span class="readout" :class="{ small }">
    <span v-if="label" class="label">{{ label }}</span>
    <span class="number" :style="{ color }"
      >{{ text }}<small>{{ scale[1] }}{{ unitOf(column) }}</small></span
    >
  </span>
</template>

<style scoped>
.readout {
  display: inline-flex;
  flex-direction: column;
  white-space: nowrap;
}
.label {
  font-size: 11px;
  color: var(--muted);
  line-height: 1.2;
}
.number {
  font-size: 30px;
  font-weight: 620;
  letter-spacing: -0.02em;
  font-variant-numeric: tabular-nums;
  line-height: 1.25;
}
.small .number {
  font-size: 20px;
}
@media (max-width: 480px) {
  /* Three numbers of a seat stand on one line of a phone. */
  .number {
    font-size: clamp(17px, 5.6vw, 26px);
  }
  .number small {
    font-size: 12px;
    margin-left: 2px;
  }
}
.number small {
  font-size: 14px;
  font-weight: 500;
  color: var(--muted);
  margin-left: 4px;
  letter-spacing: 0;
}
</style>
