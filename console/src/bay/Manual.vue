<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, type TakenOver } from '../api'
import ConfirmButton from '../parts/ConfirmButton.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import SeatControl from './SeatControl.vue'
import StateChip from '../parts/StateChip.vue'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { columnsOf, unitOf } from '../parts/format'

const props = defineProps<{ bay: string }>()
const live = useLive()
const session = useSession()
const bay = computed(() => live.bays.get(props.bay))
const busy = computed(() => bay.value !== undefined && !['idle', 'alarm', 'starting'].includes(bay.value.state))
const disabled = computed(() => busy.value || !session.mayEngineer || !live.connected)
const error = ref<unknown>(null)
const taken = ref<TakenOver | null>(null)
const told = ref('')

// Sensors: what is read can be zeroed now, or calibrated by two points.
const sensor = ref<string | null>(null)
const points = ref([
  { reading: '', true: '' },
  { reading: '', true: '' },
])
const sensors = computed(() =>
  (bay.value?.seats ?? [])
    .flatMap((s) => columnsOf(s.name, bay.value?.readings ?? {}))
    .filter((c) => !c.endsWith('.watts') || c.startsWith('meter')),
)

async function attempt(act: () => Promise<unknown>, words = '') {
  error.value = null
  told.value = ''
  try {
    await act()
    told.value = words
  } catch (e) {
    error.value = e
  }
}
const takeOver = () =>
  attempt(async () => {
    taken.value = await api.takeOver(props.bay)
  })
const copy = () =>
  attempt(() => navigator.clipboard.writeText(taken.value?.stage ?? ''), 'The stage is in the clipboard.')
const makeDefaults = () =>
  attempt(async () => {
    const config = await api.bench()
    const b = config.bays[props.bay]
    if (!b) return
    for (const [seat, values] of Object.entries(taken.value?.defaults ?? {}))
      b.seats[seat] = { ...b.seats[seat], defaults: values }
    await api.putBay(props.bay, b)
  }, 'Every run in this bay begins with these settings from now on.')
const part = (c: string) => c.split('.') as [string, string]
const zero = (c: string) => attempt(() => api.changeSensor(props.bay, ...part(c), { zero: true }), `${c} is zeroed.`)
const plain = (c: string) =>
  attempt(() => api.changeSensor(props.bay, ...part(c), { sensor: {} }), `${c} is read as it is.`)
const calibrate = (c: string) =>
  attempt(
    () =>
      api.changeSensor(props.bay, ...part(c), {
        points: points.value.map((p) => ({
          reading: Number(p.reading.replace(',', '.')),
          true: Number(p.true.replace(',', '.')),
        })),
      }),
    `${c} is calibrated.`,
  )
</script>

<template>
  <div class="page">
    <div v-if="!live.loaded" class="muted">Asking the service …</div>
    <div v-else-if="!bay" class="panel">
      There is no bay named {{ props.bay }}. <router-link to="/">Go to the floor</router-link>
    </div>
    <template v-else>
      <header>
        <h1>{{ bay.title }}, by hand</h1>
        <StateChip :state="bay.alarm ? 'alarm' : bay.state" />
        <span class="grow" />
        <v-btn :to="{ name: 'bay', params: { bay: props.bay } }">Back to the bay</v-btn>
        <ConfirmButton
          label="Make safe"
          question="Switch every output of this bay off?"
          consequence="Loads first, then sources, each read back."
          :disabled="!session.mayOperate"
          :act="() => attempt(() => api.makeSafe(props.bay))"
        />
      </header>
      <p v-if="busy" class="panel">A run owns this bay; what is set by hand waits until it ends.</p>
      <p v-if="bay.alarm" class="panel alarm" role="alert">■ {{ bay.alarm }}</p>
      <ProblemNote :error="error" />
      <p v-if="told" class="muted" role="status">● {{ told }}</p>
      <div class="seats">
        <SeatControl
          v-for="s in bay.seats"
          :key="s.name"
          :bay="bay"
          :seat="s"
          :fresh="live.connected"
          :disabled="disabled"
        />
      </div>
      <div class="seats">
        <div class="panel">
          <h2>Take over what is set now</h2>
          <p class="muted">As a stage for a procedure, or as what every run in this bay begins with.</p>
          <v-btn class="mt-3" :disabled="disabled" data-test="take-over" @click="takeOver">Take over</v-btn>
          <template v-if="taken">
            <pre data-test="taken">{{ taken.stage }}</pre>
            <div class="d-flex ga-3 flex-wrap">
              <v-btn @click="copy">Copy the stage</v-btn>
              <ConfirmButton
                label="Make it the defaults"
                question="Begin every run in this bay with these settings?"
                consequence="The bay is made safe now; outputs are not part of the defaults."
                :disabled="disabled"
                :act="makeDefaults"
              />
            </div>
          </template>
        </div>
        <div class="panel">
          <h2>Sensors</h2>
          <p class="muted">Zero what is read now, or calibrate by two points. The bay is made safe by a change.</p>
          <v-select v-model="sensor" :items="sensors" label="Reading" density="compact" hide-details class="mt-3" />
          <template v-if="sensor">
            <div v-for="(p, i) in points" :key="i" class="point">
              <v-text-field v-model="p.reading" :label="`Reads, ${unitOf(sensor)}`" density="compact" hide-details />
              <v-text-field v-model="p.true" :label="`Is, ${unitOf(sensor)}`" density="compact" hide-details />
            </div>
            <div class="d-flex ga-3 flex-wrap mt-3">
              <v-btn :disabled="disabled" @click="zero(sensor)">Zero now</v-btn>
              <v-btn :disabled="disabled || points.some((p) => !p.reading || !p.true)" @click="calibrate(sensor)"
                >Calibrate</v-btn
              >
              <v-btn :disabled="disabled" @click="plain(sensor)">Read as it is</v-btn>
            </div>
          </template>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.seats {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(440px, 100%), 1fr));
  gap: var(--gap);
  align-items: start;
}
.alarm {
  color: var(--fail);
  border-color: var(--fail);
  font-weight: 550;
}
pre {
  background: var(--paper);
  border-radius: 8px;
  padding: 10px 12px;
  margin: 12px 0;
  overflow-x: auto;
  font-size: 13px;
}
.point {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
  margin-top: 10px;
}
</style>
