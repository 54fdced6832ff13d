<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'

import { api, type Run } from '../api'
import PointsChart from '../parts/PointsChart.vue'
import PointsTable from '../parts/PointsTable.vue'
import RowsTable from '../parts/RowsTable.vue'

// The points of the run that is under way, with their pictures: table and picture grow by each point.
const props = defineProps<{ run: string; taken: number }>()
const doc = shallowRef<Run | null>(null)
const between = 1000
let asking = false
let again = false

// load asks for the run: not while an answer is due, and not more often than it can be read.
async function load() {
  if (asking) {
    again = true
    return
  }
  asking = true
  const of = props.run
  const next = await api.run(of).catch(() => null)
  if (next && of === props.run) doc.value = next
  setTimeout(() => {
    asking = false
    if (again) {
      again = false
      void load()
    }
  }, between)
}
watch(
  () => [props.run, props.taken],
  ([run], before) => {
    if (before && before[0] !== run) doc.value = null
    if (props.taken > 0) void load()
  },
  { immediate: true },
)
const rows = computed(() => (doc.value?.points ?? []).filter((p) => p.row))
const points = computed(() => (doc.value?.points ?? []).filter((p) => !p.row))
</script>

<template>
  <div v-if="doc && (points.length || rows.length)" class="stack" data-test="live-points">
    <RowsTable v-if="rows.length" :points="rows" />
    <PointsChart
      v-for="c in points.length ? doc.curves : []"
      :key="`${c.title} ${c.of} ${c.less} ${c.by}`"
      :title="c.title"
      :played="doc.played"
      :of="c.of"
      :less="c.less"
      :log="c.log"
      :rated="doc.rated ?? {}"
      :name="doc.serial"
      :by="c.by"
      :per="c.per"
    />
    <PointsTable v-if="points.length" :points="points" newest-first />
  </div>
</template>
