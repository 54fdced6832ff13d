<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, type Matching } from '../api'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { fixed } from '../parts/format'

const route = useRoute()
const router = useRouter()
const lot = ref(String(route.query.lot ?? ''))
const size = ref(String(route.query.size ?? '7'))
const weights = ref({ capacity: '1', resistance: '1', curve: '1' })
const matching = ref<Matching | null>(null)
const error = ref<unknown>(null)
const busy = ref(false)
const request = computed(() => ({
  lot: lot.value.trim(),
  size: Number(size.value),
  capacity: Number(weights.value.capacity),
  resistance: Number(weights.value.resistance),
  curve: Number(weights.value.curve),
}))
const sound = computed(
  () =>
    request.value.lot !== '' &&
    request.value.size >= 2 &&
    [request.value.capacity, request.value.resistance, request.value.curve].every((w) => w >= 0),
)

async function match() {
  busy.value = true
  error.value = null
  void router.replace({ query: { lot: lot.value, size: size.value } })
  try {
    matching.value = await api.match(request.value)
  } catch (e) {
    error.value = e
    matching.value = null
  } finally {
    busy.value = false
  }
}
async function labels() {
  try {
    await api.matchLabels(request.value)
  } catch (e) {
    error.value = e
  }
}
if (sound.value) void match()
</script>

<template>
  <div class="page">
    <header>
      <h1>Cells that belong together</h1>
      <span class="grow" />
      <template v-if="matching"
        ><v-btn variant="text" :to="{ name: 'overlay', query: { lot: matching.lot, over: 'charge' } }"
          >Overlay of the lot</v-btn
        >
        <v-btn data-test="labels" @click="labels">Labels</v-btn></template
      >
    </header>
    <form class="panel fields" @submit.prevent="match">
      <v-text-field v-model="lot" label="Lot" name="lot" hide-details density="compact" />
      <v-text-field v-model="size" label="Cells of a group" name="size" type="number" hide-details density="compact" />
      <v-text-field
        v-model="weights.capacity"
        label="Weight of capacity"
        type="number"
        hide-details
        density="compact"
      />
      <v-text-field v-model="weights.resistance" label="of resistance" type="number" hide-details density="compact" />
      <v-text-field v-model="weights.curve" label="of the curve" type="number" hide-details density="compact" />
      <v-btn type="submit" variant="flat" color="primary" :disabled="!sound" :loading="busy" data-test="match"
        >Match</v-btn
      >
    </form>
    <ProblemNote :error="error" />
    <EmptyPlace
      v-if="!matching && !error && !busy"
      title="No cells matched yet"
      about="Here the cells of a lot are sorted into packs whose cells are alike in capacity, resistance and the
        course of their discharge. Each cell counts with its last run that has a capacity."
    >
      Name the lot and the number of cells in a group, and press <strong>Match</strong>. For cells in series raise the
      weight of capacity, in parallel that of resistance.
    </EmptyPlace>
    <template v-if="matching">
      <p class="panel" data-test="score">
        <strong>Score {{ fixed(matching.score, 2) }}.</strong> Groups cut from the list sorted by capacity have
        {{ fixed(matching.sorted, 2) }}; smaller is better.
        <span class="muted">1 for each spread of 1 % of capacity, 5 % of resistance, and 5 mV of curve, squared.</span>
      </p>
      <div class="groups">
        <div v-for="g in matching.groups" :key="g.name" class="panel" data-test="group">
          <h2>{{ g.name }}</h2>
          <p class="muted">
            capacity within {{ fixed(g.capacitySpread, 2) }} %, resistance within {{ fixed(g.resistanceSpread, 1) }} %,
            curves within {{ fixed(g.curveDistance, 1) }} mV · score {{ fixed(g.score, 2) }}
          </p>
          <table class="plain">
            <thead>
              <tr>
                <th>cell</th>
                <th class="right">capacity (Ah)</th>
                <th class="right">resistance (mΩ)</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="c in g.cells" :key="c.serial">
                <td>
                  <router-link :to="{ name: 'run', params: { run: c.run } }">{{ c.serial }}</router-link>
                </td>
                <td class="right">{{ fixed(c.capacity, 4) }}</td>
                <td class="right">{{ fixed(c.resistance, 1) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </div>
      <div v-if="matching.rejects.length" class="panel">
        <h2>Left over</h2>
        <p v-for="r in matching.rejects" :key="r.serial">
          <strong>× {{ r.serial }}</strong> <span class="muted">{{ r.why }}</span>
        </p>
      </div>
    </template>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(130px, 1fr));
  gap: 12px;
  align-items: center;
}
.plain a {
  color: inherit;
}
.groups {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(290px, 1fr));
  gap: 16px;
}
</style>
