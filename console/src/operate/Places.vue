<script setup lang="ts">
import { onUnmounted, ref } from 'vue'

import { api, type Place } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { counted } from '../parts/format'
import { useLive } from '../parts/live'

// The operators' places of all bays, to choose one.
const live = useLive()
const places = ref(new Map<string, Place>())
const error = ref<unknown>(null)
async function load() {
  try {
    places.value = new Map((await api.places()).map((p) => [p.bay, p]))
  } catch (e) {
    error.value = e
  }
}
void load()
onUnmounted(live.listen({ place: (p) => places.value.set(p.bay, p), gap: () => void load() }))

function words(bay: string): string {
  const s = places.value.get(bay)?.setup
  if (!s) return 'not set up'
  return (s.card ? `card of ${s.card}` : (s.procedures ?? []).join(', ')) + (s.lot ? `, lot ${s.lot}` : '')
}
function state(bay: string): string {
  const p = places.value.get(bay)
  if (p?.unit) return `${p.unit.run ? 'tests' : 'has'} ${p.unit.serial}`
  return p?.last ? `${p.last.verdict}: ${p.last.serial}` : ''
}
</script>

<template>
  <div class="page">
    <header>
      <h1>Operate</h1>
      <span class="muted">Scan a unit, see pass or fail, take the next</span>
    </header>
    <ProblemNote :error="error" />
    <div class="places" data-test="places">
      <router-link v-for="b in live.list" :key="b.name" class="panel" :to="{ name: 'place', params: { bay: b.name } }">
        <strong>{{ b.title }}</strong>
        <span>{{ words(b.name) }}</span>
        <span class="muted">{{ state(b.name) }}</span>
        <span v-if="places.get(b.name)?.setup" class="muted">
          {{ counted(places.get(b.name)!.tally.units, 'unit') }}, {{ places.get(b.name)!.tally.failed }} failed
        </span>
      </router-link>
    </div>
  </div>
</template>

<style scoped>
.places {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(280px, 1fr));
  gap: var(--gap);
}
.places a {
  display: grid;
  gap: 4px;
  text-decoration: none;
}
</style>
