<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'

import { api, type Bay, type Point, type Prompt } from '../api'
import { useLive } from '../parts/live'
import { columnsOf, reading, unitOf } from '../parts/format'
import { signs, verdictOf } from '../parts/taking'
import RowsTable from '../parts/RowsTable.vue'

// Readings that a person takes into a row: what one would be now, and those that were taken.
const props = defineProps<{ bay: Bay; prompt: Prompt; disabled: boolean; busy: boolean }>()
const emit = defineEmits<{ say: [text: string] }>()
const live = useLive()
const take = computed(() => props.prompt.take!)
const columns = computed(
  () => take.value.columns ?? props.bay.seats.flatMap((s) => columnsOf(s.name, props.bay.readings)),
)
const value = (column: string) => (live.connected ? props.bay.readings[column] : null)
const verdict = (column: string) => verdictOf(take.value.limits?.[column], value(column))
const rows = shallowRef<Point[]>([])
watch(
  () => [props.bay.run?.id, take.value.row, take.value.taken] as const,
  async ([run, row]) => {
    if (!run) return
    const doc = await api.run(run).catch(() => null)
    if (doc && props.bay.run?.id === run) rows.value = doc.points.filter((p) => p.row === row)
  },
  { immediate: true },
)
</script>

<template>
  <div class="take" data-test="take">
    <dl>
      <div v-for="c in columns" :key="c" :class="verdict(c)">
        <dt>{{ c.replace('.', ' ') }}</dt>
        <dd>
          <span v-if="verdict(c)">{{ signs[verdict(c)!] }}</span> {{ reading(c, value(c)) }}
          <small>{{ unitOf(c) }}</small>
          <span v-if="verdict(c)" class="word">{{ verdict(c) }}</span>
        </dd>
      </div>
    </dl>
    <div class="buttons">
      <v-btn
        variant="flat"
        color="primary"
        size="large"
        data-test="take-one"
        :disabled="disabled"
        :loading="busy"
        @click="emit('say', 'take')"
        >Take</v-btn
      >
      <v-btn
        size="large"
        data-test="take-done"
        :disabled="disabled || busy || take.taken < take.least"
        @click="emit('say', 'done')"
        >Done</v-btn
      >
      <span class="muted">{{ take.taken }} taken, {{ take.least }} at least</span>
    </div>
    <RowsTable v-if="rows.length" :points="rows" :limits="take.limits" :title="`Taken into ${take.row}`" />
  </div>
</template>

<style scoped>
.take {
  display: grid;
  gap: 12px;
  width: 100%;
}
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 26px;
  margin: 0;
}
dt {
  font-size: 12px;
  color: var(--muted);
}
dd {
  display: flex;
  gap: 5px;
  align-items: baseline;
  margin: 0;
  font-size: 22px;
  font-weight: 600;
  font-variant-numeric: tabular-nums;
}
.good dd {
  color: var(--pass);
}
.marginal dd {
  color: var(--marginal);
}
.bad dd {
  color: var(--fail);
}
.word,
small {
  font-size: 13px;
  font-weight: 500;
}
.buttons {
  display: flex;
  gap: 12px;
  align-items: center;
}
</style>
