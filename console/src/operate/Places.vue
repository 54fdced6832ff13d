<script setup lang="ts">
import { computed, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type Place } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { counted } from '../parts/format'
import { useLive } from '../parts/live'

// The operators' places of all bays, to choose one.
const live = useLive()
const router = useRouter()
const places = ref(new Map<string, Place>())
const error = ref<unknown>(null)
const chosen = ref<string[]>([])
const together = computed(() => live.list.map((b) => b.name).filter((name) => chosen.value.includes(name)))
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
      <span class="grow" />
      <v-btn
        v-if="live.list.length > 1"
        variant="outlined"
        data-test="together"
        :disabled="chosen.length < 2"
        @click="router.push({ name: 'together', params: { bays: together.join(',') } })"
        >Work at {{ chosen.length > 1 ? chosen.length : 'several' }} together</v-btn
      >
    </header>
    <ProblemNote :error="error" />
    <div class="places" data-test="places">
      <div v-for="b in live.list" :key="b.name" class="panel place">
        <router-link :to="{ name: 'place', params: { bay: b.name } }">
          <strong>{{ b.title }}</strong>
          <span>{{ words(b.name) }}</span>
          <span class="muted">{{ state(b.name) }}</span>
          <span v-if="places.get(b.name)?.setup" class="muted">
            {{ counted(places.get(b.name)!.tally.units, 'unit') }}, {{ places.get(b.name)!.tally.failed }} failed
          </span>
        </router-link>
        <v-checkbox-btn
          v-if="live.list.length > 1"
          v-model="chosen"
          class="choose"
          :value="b.name"
          :aria-label="`${b.title}, together with others`"
          :data-test="`choose-${b.name}`"
        />
      </div>
    </div>
  </div>
</template>

<style scoped>
.places {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(280px, 1fr));
  gap: var(--gap);
}
.place {
  display: flex;
  align-items: start;
  justify-content: space-between;
}
.choose {
  flex: none;
}
.places a {
  flex: 1;
  display: grid;
  gap: 4px;
  text-decoration: none;
}
</style>
