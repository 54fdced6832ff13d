<script setup lang="ts">
import { onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type LotSummary } from '../api'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { dateTime } from '../parts/format'
import { useLive } from '../parts/live'

const router = useRouter()
const live = useLive()
const lots = ref<LotSummary[]>([])
const loaded = ref(false)
const error = ref<unknown>(null)
const serial = ref('')
async function load() {
  try {
    lots.value = await api.lots()
    loaded.value = true
  } catch (e) {
    error.value = e
  }
}
void load()
onUnmounted(live.listen({ run: () => void load(), gap: () => void load() }))
const open = (name: string) => void router.push({ name: 'lot', params: { lot: name } })
const find = () => {
  const text = serial.value.trim()
  if (text) void router.push({ name: 'unit', params: { serial: text } })
}
</script>

<template>
  <div class="page">
    <header>
      <h1>Lots</h1>
      <span v-if="loaded" class="muted">{{ lots.length }}</span><span class="grow" />
      <form class="find" @submit.prevent="find">
        <v-text-field
          v-model="serial"
          label="Unit: scan or type a serial number"
          name="unit"
          hide-details
          density="compact"
        />
      </form>
    </header>
    <ProblemNote :error="error" />
    <EmptyPlace
      v-if="loaded && !lots.length"
      title="No lot yet"
      about="A lot is units made together. Here its yield, failures and capability are, while it runs too."
    >
      Name a lot where a run is started, or set up an
      <router-link :to="{ name: 'operate' }">operator’s place</router-link> with one.
    </EmptyPlace>
    <div v-if="lots.length" class="panel scroll">
      <table class="plain cards" data-test="lots">
        <thead>
          <tr>
            <th>lot</th>
            <th class="right">units</th>
            <th class="right">of</th>
            <th class="right">runs</th>
            <th>newest run</th>
            <th>nameplate</th>
            <th>note</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="l in lots"
            :key="l.name"
            class="link"
            tabindex="0"
            @click="open(l.name)"
            @keydown.enter="open(l.name)"
          >
            <td class="first">
              <strong>{{ l.name }}</strong><span v-if="l.closed" class="muted"> closed</span>
            </td>
            <td class="right">{{ l.units }}</td>
            <td class="right">{{ l.quantity || '—' }}</td>
            <td class="right">{{ l.runs }}</td>
            <td>{{ l.newest ? dateTime(l.newest) : 'none yet' }}</td>
            <td>{{ l.nameplate || '—' }}</td>
            <td>{{ l.note }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.find {
  width: 320px;
}
</style>
