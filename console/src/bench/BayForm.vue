<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type BayConfig, type BenchConfig, type Dialect, type SeatConfig } from '../api'
import { catalogue, seatKind } from '../parts/catalogue'
import ConfirmButton from '../parts/ConfirmButton.vue'
import ProblemNote from '../parts/ProblemNote.vue'

// What fills the seats of every bay, and a form to change it.
const props = defineProps<{ config: BenchConfig; dialects: Dialect[]; may: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const kinds = computed(() => catalogue.seats.map((k) => k.name))
type Probe = { name: string; channel: number; factor: number; unit: 'V' | 'A' }
type Row = {
  seat: string
  channels: { instrument: string; channel: number }[]
  gang: string
  probes: Probe[]
  before: SeatConfig
}
const editing = ref<string | null>(null)
const form = reactive({ name: '', title: '', rows: [] as Row[] })
const error = ref<unknown>(null)
const busy = ref(false)

const channelsOf = (s: SeatConfig) =>
  s.channels?.length ? s.channels : [{ instrument: s.instrument ?? '', channel: s.channel ?? 1 }]
const words = (s: SeatConfig) =>
  channelsOf(s)
    .map((c) => `${c.instrument}:${c.channel || 1}`)
    .join(s.gang === 'series' ? ' in series with ' : ' parallel to ')

function edit(name: string) {
  const b: BayConfig = props.config.bays[name] ?? { seats: {} }
  editing.value = name
  form.name = name || `bay${Object.keys(props.config.bays).length + 1}`
  form.title = b.title ?? ''
  form.rows = Object.entries(b.seats).map(([seat, s]) => ({
    seat,
    gang: s.gang || 'parallel',
    before: s,
    probes: Object.entries(s.probes ?? {}).map(([probe, p]) => ({
      name: probe,
      channel: p.channel || 1,
      factor: p.factor || 1,
      unit: p.unit || 'V',
    })),
    channels: channelsOf(s).map((c) => ({ instrument: c.instrument, channel: c.channel || 1 })),
  }))
  if (!form.rows.length) addSeat()
  error.value = null
}
function addSeat() {
  const seat = kinds.value.find((k) => !form.rows.some((r) => r.seat === k)) ?? 'source2'
  form.rows.push({
    seat,
    gang: 'parallel',
    before: {},
    probes: [],
    channels: [{ instrument: Object.keys(props.config.instruments)[0] ?? '', channel: 1 }],
  })
}
function gang(r: Row) {
  const last = r.channels[r.channels.length - 1]
  if (last)
    r.channels.push({ instrument: last.instrument, channel: Math.min(last.channel + 1, mostChannels(last.instrument)) })
}
// A seat that captures says by its probes what the channels of its scope see.
const captures = (r: Row) => seatKind(r.seat)?.roles.includes('captures') ?? false
function addProbe(r: Row) {
  const channel = Math.max(0, ...r.probes.map((p) => p.channel)) + 1
  r.probes.push({
    name: '',
    channel: Math.min(channel, mostChannels(r.channels[0]?.instrument ?? '')),
    factor: 1,
    unit: 'V',
  })
}
const probesOf = (r: Row) =>
  r.probes.length
    ? Object.fromEntries(
        r.probes.map((p) => [p.name.trim(), { channel: p.channel, factor: Number(p.factor), unit: p.unit }]),
      )
    : undefined
const mostChannels = (instrument: string) =>
  props.dialects.find((d) => d.name === props.config.instruments[instrument]?.dialect)?.channels ?? 1

async function save() {
  busy.value = true
  error.value = null
  try {
    const before = props.config.bays[form.name] ?? { seats: {} }
    const seats = Object.fromEntries(
      form.rows.map((r) => {
        const rest: SeatConfig = { ...r.before, probes: probesOf(r) }
        for (const key of ['instrument', 'channel', 'gang', 'channels'] as const) delete rest[key]
        return [
          r.seat,
          r.channels.length > 1
            ? { ...rest, gang: r.gang as 'series' | 'parallel', channels: r.channels }
            : { ...rest, ...r.channels[0] },
        ]
      }),
    )
    await api.putBay(form.name.trim(), { ...before, title: form.title.trim() || undefined, seats })
    editing.value = null
    emit('changed')
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
async function remove(name: string) {
  error.value = null
  try {
    await api.removeBay(name)
    editing.value = null
    emit('changed')
  } catch (e) {
    error.value = e
  }
}
</script>

<template>
  <div class="panel scroll">
    <div class="head">
      <h2>Bays and seats</h2>
      <span class="grow" /><v-btn v-if="may" size="small" data-test="new-bay" @click="edit('')">Add a bay</v-btn>
    </div>
    <table class="plain" data-test="bays">
      <tbody>
        <tr v-for="(b, name) in config.bays" :key="name">
          <td>
            <strong>{{ b.title || name }}</strong> <span class="muted">{{ name }}</span>
          </td>
          <td>
            <span v-for="(s, seat) in b.seats" :key="seat" class="seat"
              ><span class="muted">{{ seat }}</span> {{ words(s)
              }}<span v-if="Object.keys(s.sensors ?? {}).length" class="muted"> · sensor</span
              ><span v-if="Object.keys(s.probes ?? {}).length" class="muted">
                · probes at {{ Object.keys(s.probes ?? {}).join(', ') }}</span
              ></span
            >
          </td>
          <td class="muted">{{ config.origin[`bays.${name}`] === 'file' ? 'from the file' : 'changed here' }}</td>
          <td class="right">
            <v-btn v-if="may" size="small" :data-test="`edit-${name}`" @click="edit(String(name))">Change</v-btn>
          </td>
        </tr>
      </tbody>
    </table>
    <v-dialog :model-value="editing !== null" max-width="820" @update:model-value="editing = null">
      <v-card class="pa-5">
        <h2>{{ editing ? `Change ${editing}` : 'Add a bay' }}</h2>
        <div class="row">
          <v-text-field
            v-model="form.name"
            label="Name"
            :disabled="!!editing"
            hide-details
            density="compact"
          /><v-text-field v-model="form.title" label="Title" hide-details density="compact" />
        </div>
        <div v-for="(r, i) in form.rows" :key="i" class="row seatrow">
          <v-combobox v-model="r.seat" :items="kinds" label="Seat" hide-details density="compact" />
          <div class="channels">
            <div v-for="(c, k) in r.channels" :key="k" class="row">
              <v-select
                v-model="c.instrument"
                :items="Object.keys(config.instruments)"
                label="Instrument"
                hide-details
                density="compact"
              />
              <v-select
                v-model="c.channel"
                :items="Array.from({ length: mostChannels(c.instrument) }, (_, n) => n + 1)"
                label="Channel"
                hide-details
                density="compact"
              />
            </div>
            <v-select
              v-if="r.channels.length > 1"
              v-model="r.gang"
              :items="['parallel', 'series']"
              label="Work together in"
              hide-details
              density="compact"
            />
            <div v-for="(p, k) in r.probes" :key="'probe' + k" class="probe">
              <v-text-field v-model="p.name" label="Probe at" placeholder="output" hide-details density="compact" />
              <v-select
                v-model="p.channel"
                :items="Array.from({ length: mostChannels(r.channels[0]?.instrument ?? '') }, (_, n) => n + 1)"
                label="Channel"
                hide-details
                density="compact"
              />
              <v-text-field v-model="p.factor" type="number" step="any" label="Factor" hide-details density="compact" />
              <v-select v-model="p.unit" :items="['V', 'A']" label="Unit" hide-details density="compact" />
              <v-btn size="small" :aria-label="`Remove the probe ${p.name}`" @click="r.probes.splice(k, 1)">×</v-btn>
            </div>
            <v-btn v-if="captures(r)" size="small" class="mt-2" data-test="add-probe" @click="addProbe(r)"
              >Add a probe</v-btn
            >
          </div>
          <div>
            <v-btn size="small" @click="gang(r)">Gang</v-btn>
            <v-btn size="small" @click="r.channels.length > 1 ? r.channels.pop() : form.rows.splice(i, 1)"
              >Remove</v-btn
            >
          </div>
        </div>
        <v-btn size="small" class="mt-2" @click="addSeat">Add a seat</v-btn>
        <p class="muted mt-3">The bay must be idle; it is made safe. A channel can be in one place only.</p>
        <ProblemNote class="mt-3" :error="error" />
        <div class="d-flex ga-3 mt-5 justify-end">
          <ConfirmButton
            v-if="editing"
            label="Remove the bay"
            :question="`Remove ${editing}?`"
            consequence="Its runs stay on record; its instruments are free."
            :act="() => remove(editing ?? '')"
          />
          <span class="grow" />
          <v-btn @click="editing = null">Leave as it is</v-btn>
          <v-btn variant="flat" color="primary" :loading="busy" data-test="save-bay" @click="save">Save</v-btn>
        </div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  align-items: baseline;
}
.seat {
  margin-right: 18px;
  white-space: nowrap;
}
.row {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
  margin-top: 10px;
}
.seatrow {
  grid-template-columns: 130px 1fr auto;
  align-items: start;
}
.probe {
  display: grid;
  grid-template-columns: 1fr 104px 84px 92px auto;
  gap: 6px;
  align-items: center;
  margin-top: 10px;
}
.channels .row:first-child {
  margin-top: 0;
}
</style>
