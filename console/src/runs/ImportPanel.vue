<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, type LogLook, type Mapping, type Procedure } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'

// A log that other equipment wrote becomes a run. What is mapped once is remembered by its source.
const router = useRouter()
const name = ref('')
const file = shallowRef<Uint8Array | null>(null)
const look = ref<LogLook | null>(null)
const mapping = ref<Mapping>({})
const source = ref('')
const serial = ref('')
const lot = ref('')
const nameplate = ref<string | null>(null)
const plates = ref<string[]>([])
const error = ref<unknown>(null)
const busy = ref(false)
const above = ref('')
const capture = ref(false)
const accuracy = ref({ volts: '', amps: '' })
const quantities = ['time', 'volts', 'amps', 'celsius'] as const
const signs = [
  { title: 'negative, if the volts agree', value: '' },
  { title: 'negative', value: 'negative' },
  { title: 'positive', value: 'positive' },
]
const titles = { time: 'Time', volts: 'Volts', amps: 'Amps', celsius: 'Temperature' }
void api.nameplates().then(
  (n) => {
    plates.value = n.map((p) => p.name)
  },
  () => undefined,
)

// A procedure gives the figures and limits; of a capture those of one of its stages that capture.
const procedures = ref<Procedure[]>([])
const procedure = ref<string | null>(null)
const stage = ref<string | null>(null)
const stages = ref<string[]>([])
const fitting = computed(() =>
  procedures.value.filter((p) => !nameplate.value || p.for === 'any' || p.for === nameplate.value).map((p) => p.name),
)
void api.procedures().then(
  (all) => {
    procedures.value = all
  },
  () => undefined,
)
watch(procedure, async (chosen) => {
  stage.value = null
  stages.value = []
  if (!chosen) return
  try {
    const doc = await api.procedure(chosen)
    if (doc.for !== 'any') nameplate.value = doc.for ?? nameplate.value
    const outline = await api.outline({ text: doc.text ?? '' })
    if (procedure.value !== chosen) return // another was chosen meanwhile
    stages.value = outline.stages.filter((s) => s.kind === 'capture').map((s) => s.name)
    stage.value = stages.value[0] ?? null
  } catch (e) {
    error.value = e
  }
})

async function take(event: Event) {
  const chosen = (event.target as HTMLInputElement).files?.[0]
  if (!chosen) return
  name.value = chosen.name
  file.value = new Uint8Array(await chosen.arrayBuffer())
  above.value = ''
  await see()
}
// A workbook is needed whole for a first look; of a text its beginning is enough.
const workbook = (bytes: Uint8Array) => bytes[0] === 0x50 && bytes[1] === 0x4b
const beginning = (bytes: Uint8Array) => {
  const most = 64 * 1024
  if (workbook(bytes) || bytes.length <= most) return bytes
  const end = bytes.lastIndexOf(0x0a, most)
  return bytes.subarray(0, end > 0 ? end : most)
}
// UTF-8 goes out as text; what is none goes out as it is, and the service finds out how it is written.
function sent(bytes: Uint8Array): { text?: string; data?: string } {
  try {
    return { text: new TextDecoder('utf-8', { fatal: true }).decode(bytes) }
  } catch {
    let binary = ''
    for (let i = 0; i < bytes.length; i += 0x8000) binary += String.fromCharCode(...bytes.subarray(i, i + 0x8000))
    return { data: btoa(binary) }
  }
}
async function see() {
  if (!file.value) return
  error.value = null
  try {
    look.value = await api.lookAtLog({
      ...sent(beginning(file.value)),
      mapping: { source: source.value.trim(), skip: Number(above.value) || 0 },
    })
    mapping.value = look.value.mapping
    above.value = String(mapping.value.skip ?? 0)
    capture.value = !mapping.value.amps?.column // a log of a battery has amps
  } catch (e) {
    error.value = e
  }
}
const columnOf = (q: (typeof quantities)[number]) => mapping.value[q] ?? {}
const give = (q: (typeof quantities)[number], part: 'column' | 'unit', v: string) => {
  mapping.value = { ...mapping.value, [q]: { ...columnOf(q), [part]: v } }
}

async function bring() {
  if (!file.value) return
  busy.value = true
  error.value = null
  try {
    const run = await api.importLog({
      name: name.value,
      ...sent(file.value),
      accuracy: Object.fromEntries(Object.entries(accuracy.value).filter(([, v]) => v.trim())),
      mapping: { ...mapping.value, source: source.value.trim() },
      serial: serial.value.trim(),
      lot: lot.value.trim(),
      nameplate: nameplate.value ?? '',
      procedure: procedure.value ?? '',
      capture: capture.value,
      ...(capture.value && stage.value ? { stage: stage.value } : {}),
    })
    await router.push({ name: 'run', params: { run: run.id } })
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="panel" data-test="import" @submit.prevent="bring">
    <h2>Import a log</h2>
    <div class="fields">
      <input type="file" accept=".csv,.txt,.tsv,.log,.xlsx" aria-label="File of the log" @change="take" />
      <v-text-field
        v-model="source"
        label="What wrote it"
        hide-details
        density="compact"
        placeholder="deck charger"
        @blur="see"
      />
      <v-text-field v-model="serial" label="Serial number" hide-details density="compact" data-test="import-serial" />
      <v-text-field v-model="lot" label="Lot" hide-details density="compact" />
      <v-select v-model="nameplate" :items="plates" label="Nameplate" clearable hide-details density="compact" />
    </div>
    <template v-if="look">
      <p class="muted mt-3">
        {{ look.remembered ? `Read as remembered of ${source}.` : 'A guess; correct it where it is wrong.' }}
        {{ look.headers.length }} columns, parted by “{{ mapping.separator }}”{{
          mapping.unitRow ? ', with a row of units' : ''
        }}.
      </p>
      <div class="fields mt-2">
        <template v-for="q in quantities" :key="q">
          <v-select
            :model-value="columnOf(q).column"
            :items="['', ...look.headers]"
            :label="titles[q]"
            hide-details
            density="compact"
            @update:model-value="(v: string) => give(q, 'column', v)"
          />
          <v-text-field
            :model-value="columnOf(q).unit"
            label="Unit"
            hide-details
            density="compact"
            @update:model-value="(v: string) => give(q, 'unit', v)"
          />
        </template>
        <v-text-field
          v-model="above"
          label="Lines above the header"
          type="number"
          min="0"
          hide-details
          density="compact"
          data-test="above"
          @change="see"
        />
        <v-select
          v-model="mapping.date"
          :items="['', ...look.headers]"
          label="Date, if apart"
          hide-details
          density="compact"
        />
        <v-text-field
          v-model="accuracy.volts"
          label="Accuracy of the volts"
          placeholder="0.05 % + 2 mV"
          hide-details
          density="compact"
        />
        <v-text-field
          v-model="accuracy.amps"
          label="Accuracy of the amps"
          placeholder="0.1 % + 5 mA"
          hide-details
          density="compact"
        />
        <v-checkbox
          v-model="capture"
          label="A fast capture, in equal steps"
          hide-details
          density="compact"
          data-test="as-capture"
        />
        <v-select
          v-model="procedure"
          :items="fitting"
          label="Figures and limits of"
          placeholder="the usual ones"
          persistent-placeholder
          clearable
          hide-details
          density="compact"
          data-test="import-procedure"
        />
        <v-select
          v-if="capture && procedure"
          v-model="stage"
          :items="stages"
          label="Its stage"
          no-data-text="It captures nothing"
          hide-details
          density="compact"
          data-test="import-stage"
        />
        <v-checkbox v-model="mapping.join" label="Join where the clock was set" hide-details density="compact" />
        <v-select
          v-model="mapping.dischargeIs"
          :items="signs"
          label="A discharge has amps that are"
          hide-details
          density="compact"
        />
      </div>
      <div class="scroll mt-3">
        <table class="plain">
          <thead>
            <tr>
              <th v-for="h in look.headers" :key="h">{{ h }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(row, i) in look.rows.slice(0, 4)" :key="i">
              <td v-for="(x, k) in row" :key="k">{{ x }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <ProblemNote class="mt-3" :error="error" />
    <v-btn
      type="submit"
      class="mt-3"
      variant="flat"
      color="primary"
      :disabled="!look || !serial.trim()"
      :loading="busy"
      data-test="bring"
      >Import as a run</v-btn
    >
  </form>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(150px, 1fr));
  gap: 10px;
  align-items: center;
}
</style>
