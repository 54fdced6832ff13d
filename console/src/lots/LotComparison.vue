<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, type LotDifference, type LotSummary } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { short } from '../parts/format'

// Is the lot different from another, beyond the scatter of both?
const props = defineProps<{ lot: string; procedure: string }>()
const lots = ref<LotSummary[]>([])
const other = ref<string | null>(null)
const found = ref<LotDifference | null>(null)
const error = ref<unknown>(null)
void api.lots().then(
  (all) => {
    lots.value = all
  },
  () => undefined,
)
watch(other, async (name) => {
  found.value = null
  error.value = null
  if (!name) return
  try {
    found.value = await api.lotDifference(props.lot, name)
  } catch (e) {
    error.value = e
  }
})
const names = computed(() => lots.value.filter((l) => l.name !== props.lot && l.runs).map((l) => l.name))
const figures = computed(() => found.value?.figures.filter((f) => f.procedure === props.procedure) ?? [])
</script>

<template>
  <div v-if="names.length" class="panel scroll" data-test="comparison">
    <div class="head">
      <h2>Against another lot</h2>
      <v-select v-model="other" :items="names" label="Lot" density="compact" hide-details clearable class="which" />
    </div>
    <ProblemNote :error="error" />
    <p v-if="found && !figures.length" class="muted">The two have no figure of this procedure in common.</p>
    <table v-if="figures.length" class="plain">
      <thead>
        <tr>
          <th>figure</th>
          <th>at</th>
          <th class="right">{{ found?.before }}</th>
          <th class="right">{{ found?.after }}</th>
          <th class="right">difference (95 %)</th>
          <th>proven</th>
          <th class="right">of the limits</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(f, i) in figures" :key="i">
          <td>
            <strong>{{ f.title }}</strong>
          </td>
          <td class="muted">{{ f.where || '—' }}</td>
          <td class="right">{{ short(f.before) }} {{ f.unit }}</td>
          <td class="right">{{ short(f.after) }} {{ f.unit }}</td>
          <td class="right">
            <template v-if="f.difference !== null">{{ short(f.difference) }} ± {{ short(f.u) }} {{ f.unit }}</template
            ><span v-else class="muted">{{ f.why }}</span>
          </td>
          <td>{{ f.differs ? '▲ differs' : 'not proven' }}</td>
          <td class="right">{{ f.share === null ? '—' : `${f.share.toFixed(1)} %` }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 14px;
  margin-bottom: 8px;
}
.head h2 {
  margin: 0;
}
.which {
  max-width: 260px;
}
</style>
