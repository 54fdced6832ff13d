<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type LogLook, type Mapping } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'

// A log that other equipment wrote becomes a run. What is mapped once is remembered by its source.
const router = useRouter()
const name = ref('')
const text = ref('')
const look = ref<LogLook | null>(null)
const mapping = ref<Mapping>({})
const source = ref('')
const serial = ref('')
const lot = ref('')
const nameplate = ref<string | null>(null)
const plates = ref<string[]>([])
const error = ref<unknown>(null)
const busy = ref(false)
const quantities = ['time', 'volts', 'amps', 'celsius'] as const
const titles = { time: 'Time', volts: 'Volts', amps: 'Amps', celsius: 'Temperature' }
void api.nameplates().then(
  (n) => {
    plates.value = n.map((p) => p.name)
  },
  () => undefined,
)

async function take(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  name.value = file.name
  text.value = await file.text()
  await see()
}
async function see() {
  if (!text.value) return
  error.value = null
  try {
    const head = text.value.slice(0, 64 * 1024)
    look.value = await api.lookAtLog({
      text: head.length < text.value.length ? head.slice(0, head.lastIndexOf('\n')) : head,
      mapping: { source: source.value.trim() },
    })
    mapping.value = look.value.mapping
  } catch (e) {
    error.value = e
  }
}
const columnOf = (q: (typeof quantities)[number]) => mapping.value[q] ?? {}
const give = (q: (typeof quantities)[number], part: 'column' | 'unit', v: string) => {
  mapping.value = { ...mapping.value, [q]: { ...columnOf(q), [part]: v } }
}

async function bring() {
  busy.value = true
  error.value = null
  try {
    const run = await api.importLog({
      name: name.value,
      text: text.value,
      mapping: { ...mapping.value, source: source.value.trim() },
      serial: serial.value.trim(),
      lot: lot.value.trim(),
      nameplate: nameplate.value ?? '',
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
      <input type="file" accept=".csv,.txt,.tsv" aria-label="File of the log" @change="take" />
      <v-text-field
        v-model="source"
        label="What wrote it"
        hide-details
        density="compact"
        placeholder="deck charger"
        @blur="see"
      />
      <v-text-field v-model="serial" label="Serial number" hide-details density="compact" />
      <v-text-field v-model="lot" label="Lot" hide-details density="compact" />
      <v-select v-model="nameplate" :items="plates" label="Nameplate" clearable hide-details density="compact" />
    </div>
    <template v-if="look">
      <p class="muted mt-3">
        {{ look.remembered ? `Read as remembered of ${source}.` : 'A guess; correct it where it is wrong.' }}
        {{ look.headers.length }} columns, parted by “{{ mapping.separator }}”.
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
        <v-select
          v-model="mapping.dischargeIs"
          :items="['negative', 'positive']"
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
