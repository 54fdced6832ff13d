<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Rehearsal } from '../api'
import { quantity } from '../parts/catalogue'
import { partOf, quantityOf, seconds } from '../parts/format'
import FiguresTable from '../parts/FiguresTable.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateChip from '../parts/StateChip.vue'
import TraceChart from '../parts/TraceChart.vue'

// What a rehearsal foretells: outcome, duration, energy and heat, curves, figures.
const props = defineProps<{
  rehearsal: Rehearsal | null
  busy: boolean
  stale: boolean
  error: unknown
  sound: boolean
  forAny: boolean
  nameplates: string[]
}>()
const emit = defineEmits<{ rehearse: [fault: string, nameplate: string | undefined] }>()
const fault = ref('')
const plate = ref<string | undefined>(undefined)
const faults = [
  { title: 'a healthy unit', value: '' },
  { title: 'weak regulation', value: 'weak-regulation' },
  { title: 'low efficiency', value: 'low-efficiency' },
  { title: 'a dead unit', value: 'dead' },
  { title: 'a weak pack', value: 'weak' },
]
const lines = computed(() => {
  const r = props.rehearsal
  if (!r) return []
  return r.columns.flatMap((c, i) =>
    quantity(quantityOf(c.name))?.compared && !partOf(c.name)
      ? [{ column: c.name, data: r.t.map((t, k): [number, number | null] => [t, r.values[i]?.[k] ?? null]) }]
      : [],
  )
})
</script>

<template>
  <div class="stack">
    <div class="row">
      <v-select v-model="fault" :items="faults" label="Rehearse with" density="compact" hide-details class="fault" />
      <v-select
        v-if="forAny"
        v-model="plate"
        :items="nameplates"
        label="Nameplate"
        density="compact"
        hide-details
        class="fault"
      />
      <v-btn
        variant="flat"
        color="primary"
        data-test="rehearse"
        :disabled="!sound || (forAny && !plate)"
        :loading="busy"
        @click="emit('rehearse', fault, plate)"
        >Rehearse</v-btn
      >
      <span v-if="!sound" class="muted">Mend the findings first.</span>
      <span v-else-if="stale" class="muted">The text has changed since this rehearsal.</span>
    </div>
    <ProblemNote :error="error" />
    <template v-if="rehearsal">
      <p class="row" data-test="rehearsed">
        <StateChip :state="rehearsal.outcome || rehearsal.ending" />
        <span
          >takes <strong>{{ seconds(rehearsal.duration) }}</strong></span
        >
        <span
          >draws <strong>{{ rehearsal.energy.toPrecision(3) }} Wh</strong></span
        >
        <span
          >heat <strong>{{ rehearsal.heat.toPrecision(3) }} Wh</strong></span
        >
        <span v-if="rehearsal.hottest"
          >hottest <strong>{{ rehearsal.hottest.toFixed(1) }} °C</strong></span
        >
        <span class="muted">computed in {{ (rehearsal.took * 1000).toFixed(0) }} ms</span>
      </p>
      <p v-if="rehearsal.reason" class="bad">{{ rehearsal.reason }}</p>
      <TraceChart :lines="lines" :from="0" :to="rehearsal.duration" :marks="rehearsal.marks" name="rehearsal" />
      <FiguresTable v-if="rehearsal.figures.length" :figures="rehearsal.figures" />
    </template>
    <p v-else class="muted">A rehearsal runs the procedure on a model of the unit, without touching an instrument.</p>
  </div>
</template>

<style scoped>
.row {
  display: flex;
  gap: 8px 16px;
  align-items: center;
  flex-wrap: wrap;
}
.fault {
  max-width: 220px;
}
.bad {
  color: var(--fail);
}
</style>
