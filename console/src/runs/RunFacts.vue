<script setup lang="ts">
import { computed } from 'vue'

import type { Run } from '../api'
import { dateTime, seconds } from '../parts/format'

const props = defineProps<{ run: Run }>()
const facts = computed<[string, string][]>(() => {
  const r = props.run
  const parameters = Object.entries(r.parameters ?? {})
    .map(([k, v]) => `${k} = ${v}`)
    .join(', ')
  return [
    ['Nameplate', r.nameplate],
    ['Lot', r.lot || '—'],
    ['Procedure', `${r.procedure}, revision ${r.revision}`],
    ['Parameters', parameters || '—'],
    ['Bay', r.bay],
    ['Operator', r.operator],
    ['Started', dateTime(r.startedAt)],
    ['Duration', seconds(r.duration) + (r.timeFactor > 1 ? ` of bench time, ×${r.timeFactor}` : '')],
    ['Frames', String(r.frames)],
    ['Run', r.id],
  ]
})
</script>

<template>
  <div class="panel">
    <h2>Record</h2>
    <dl>
      <template v-for="[k, v] in facts" :key="k"
        ><dt>{{ k }}</dt>
        <dd>{{ v }}</dd></template
      >
    </dl>
    <h2 class="mt-4">Instruments</h2>
    <div v-for="u in run.instruments" :key="u.seat" class="instrument">
      <strong>{{ u.seat }}</strong> {{ u.instrument }}, channel {{ u.channel }}
      <div class="muted">
        {{ u.identity }}<template v-if="u.due">, calibration due {{ u.due }}</template>
      </div>
    </div>
  </div>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 4px 14px;
  margin: 0;
}
dt {
  color: var(--muted);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.instrument {
  padding: 4px 0;
  overflow-wrap: anywhere;
}
</style>
